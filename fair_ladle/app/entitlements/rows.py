"""What rows of entitlements have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class InLayer:
    """Something a layer says of a product."""

    id: int
    account_id: int
    group_id: int | None
    product_id: int


@dataclass(frozen=True)
class GivenByLayer(InLayer):
    """What a layer gives, with these components on."""

    components: list[str]
    priority: int


@dataclass(frozen=True)
class BarredByLayer(InLayer):
    """A component that a layer bars."""

    component: str


@dataclass(frozen=True)
class RuleSeatRecord:
    """A row of ``rule_seats``."""

    product_id: int
    person_id: int
    instead_of: int | None
    components: Any


@dataclass(frozen=True)
class SwitchRecord:
    """A row of ``component_switches``."""

    person_id: int
    product_id: int
    component: str
    on: bool
