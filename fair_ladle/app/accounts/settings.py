"""How long things last and who may make them, by account: an account's own setting, or that of the nearest account
above, or the usual one. Trusted: the caller has judged scope."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.accounts.tables import account_settings
from fair_ladle.app.plumbing.database import Transaction


@dataclass(frozen=True)
class Setting:
    """A setting: what it is in words, its unit, the usual value, and the least and most it can be; or the ``choices``
    it has, by their places."""

    words: str
    unit: str
    usual: int
    least: int
    most: int
    choices: tuple[str, ...] = ()

    def said(self, value: int) -> str:
        """A value in words."""
        return self.choices[value] if self.choices else f"{value} {self.unit}"


SETTINGS: Mapping[str, Setting] = {
    "invitation": Setting("An invitation is valid for", "days", 14, 1, 90),
    "number_hold": Setting("A number is held while choosing for", "minutes", 15, 1, 240),
    "offline_lease": Setting("A device may work offline for", "days", 21, 1, 30),
    "notice": Setting("A notice before reclaiming runs for", "days", 7, 0, 90),
    "folders": Setting("Shared folders are made by", "", 0, 0, 1, ("each account's admins", "this account's admins")),
}


def made_above(tx: Transaction, accounts: Accounts, row: int, name: str) -> bool:
    """Whether an account above this one keeps something for its own admins (the second choice of a setting)."""
    above = set(accounts.tree.path_up(row)) - {row}
    return any(key[1] == name and amount == 1 for key, amount in own(tx, accounts, above).items())


def value(tx: Transaction, accounts: Accounts, row: int, name: str) -> int:
    """The setting in force for an account, by its row."""
    return in_force(tx, accounts, [row])[row][name]


def in_force(tx: Transaction, accounts: Accounts, rows: list[int]) -> dict[int, dict[str, int]]:
    """The settings in force for several accounts, by row and name."""
    ways = {row: accounts.tree.path_up(row) for row in rows}
    set_here = own(tx, accounts, {each for way in ways.values() for each in way})
    return {
        row: {
            name: next((set_here[each, name] for each in way if (each, name) in set_here), setting.usual)
            for name, setting in SETTINGS.items()
        }
        for row, way in ways.items()
    }


def own(tx: Transaction, accounts: Accounts, rows: set[int]) -> dict[tuple[int, str], int]:
    """What accounts have set themselves, by row and name."""
    table = account_settings
    ids = [int(accounts.ids[row]) for row in rows]
    found = tx.connection.execute(sa.select(table).where(table.c.account_id.in_(ids)))
    return {(accounts.row_of_id[each.account_id], each.name): each.value for each in found}


def put(tx: Transaction, account_id: int, name: str, amount: int | None) -> None:
    """Set it for an account, or (None) leave it to those above. Locks its row by its key."""
    table = account_settings
    if amount is None:
        tx.connection.execute(sa.delete(table).where(table.c.account_id == account_id, table.c.name == name))
        return
    new = mysql.insert(table).values(account_id=account_id, name=name, value=amount)
    tx.connection.execute(new.on_duplicate_key_update(value=amount))
