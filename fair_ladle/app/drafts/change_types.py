"""What a draft can hold. One definition serves the HTTP face and the rows a draft is kept in."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated, ClassVar, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, model_validator

from fair_ladle.app.plumbing.days import Day

Code = Annotated[str, Field(min_length=1, max_length=64)]
Email = Annotated[str, Field(max_length=254)]


class Plain(BaseModel):
    """Unknown members are refused, so that a typing error is not taken for nothing."""

    model_config = ConfigDict(extra="forbid", frozen=True, json_schema_serialization_defaults_required=True)


class Terms(Plain):
    """What an allocation gives, in grains; cap and burst null = none. With ``per`` (a counted product) and ``each`` the
    cap is that much more for every unit of it in use in the branch, and null is 0."""

    reserve: int = 0
    cap: int | None = None
    at_cap: Literal["block", "grace", "overage"] = "block"
    burst: int | None = None
    grace_days: int | None = Field(default=None, ge=0, le=3660)
    per: Code | None = None
    each: int | None = None


class Until(Plain):
    """The last day on which an allocation's new terms apply, null = for good. On the day after it what follows begins:
    the terms that are in force now, unless others are due then."""

    last_day: Day | None


class Staged(Plain):
    """A change of a draft; ``about`` names the member that says which account it is about."""

    about: ClassVar[str] = "account"

    @property
    def concerns(self) -> str:
        """The account it is about."""
        return str(getattr(self, self.about))


class AllocationChange(Staged):
    """An allocation shall be ``terms`` (null = nothing any more).

    ``seen`` is the id of the version the change was made on, null where there was none; ``was`` its terms. ``until``
    null = the last day stays what it is; ``was_until`` is what it was.
    """

    kind: Literal["allocation"] = "allocation"
    account: Code
    product: Code
    terms: Terms | None
    seen: int | None
    was: Terms | None = None
    until: Until | None = None
    was_until: Until | None = None

    @property
    def key(self) -> str:
        """A draft holds one change a key."""
        return f"{self.account}\n{self.product}"


class NewLot(Staged):
    """A purchase: quantity and true-up in grains; ``last_day`` null = open. ``renews`` names the lot it follows."""

    about: ClassVar[str] = "owner"
    kind: Literal["new lot"] = "new lot"
    owner: Code
    product: Code
    reference: str = Field(min_length=1, max_length=100)
    quantity: int
    first_day: Day
    last_day: Day | None = None
    unit_cost: Decimal = Field(ge=0, max_digits=20, decimal_places=10)
    currency: str = Field(min_length=3, max_length=3)
    true_up: int = 0
    overcommit: int | None = Field(default=None, ge=100, le=1000)
    renews: str | None = Field(default=None, max_length=100)

    @property
    def key(self) -> str:
        """Owner, product, reference and first day name a lot."""
        return f"{self.owner}\n{self.product}\n{self.reference}\n{self.first_day}"


class LotEnd(Staged):
    """A lot that is there shall end on another day; a day before its first takes it back whole."""

    about: ClassVar[str] = "owner"
    kind: Literal["lot end"] = "lot end"
    owner: Code
    product: Code
    reference: str = Field(min_length=1, max_length=100)
    first_day: Day
    last_day: Day | None
    was: Day | None = None

    @property
    def key(self) -> str:
        """The lot it ends."""
        return f"{self.owner}\n{self.product}\n{self.reference}\n{self.first_day}"


class NewAccount(Staged):
    """An account that shall be there, below a parent."""

    about: ClassVar[str] = "code"
    kind: Literal["new account"] = "new account"
    code: str = Field(min_length=1, max_length=64, pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$")
    parent: Code
    account_kind: Literal["reseller", "client", "sub-account"]
    name: str = Field(min_length=1, max_length=200)
    admin_email: Email | None = None
    billing_email: Email | None = None
    unallocated: Literal["free", "none"] = "none"
    """What it may hold of pools it has no allocation of: what is free above, or nothing."""

    @property
    def key(self) -> str:
        """The account."""
        return self.code


class StatusChange(Staged):
    """An account, and with it its branch, shall be suspended (what it has stays, nothing new is given out; charged or
    not), closed (everything is released, its allocations end) or active again. ``was`` is its own status before."""

    kind: Literal["status"] = "status"
    account: Code
    status: Literal["active", "suspended", "closed"]
    charged: bool = True
    was: Literal["active", "suspended", "closed"] | None = None
    was_charged: bool = True

    @property
    def key(self) -> str:
        """The account."""
        return self.account


class UnitsChange(Staged):
    """Units of a product shall be given to, or taken from, these subjects of an account."""

    kind: Literal["units"] = "units"
    account: Code
    product: Code
    subjects: tuple[Annotated[str, Field(min_length=1, max_length=128)], ...] = Field(min_length=1, max_length=1000)
    give: bool

    @property
    def key(self) -> str:
        """Account, product and direction."""
        return f"{self.account}\n{self.product}\n{'give' if self.give else 'take'}"


class TierTerms(Plain):
    """A price from a quantity on, in units."""

    from_quantity: Decimal = Field(ge=0, max_digits=20, decimal_places=10)
    unit_price: Decimal = Field(ge=0, max_digits=20, decimal_places=10)


class RateTerms(Plain):
    """How a product is priced; quantities in units."""

    basis: Literal["used", "held", "reserved"]
    aggregate: Literal["average", "peak", "p95"]
    tier_mode: Literal["graduated", "volume"]
    included: Decimal = Field(Decimal(0), ge=0, max_digits=20, decimal_places=10)
    overage_price: Decimal | None = Field(default=None, ge=0, max_digits=20, decimal_places=10)
    minimum: Decimal | None = Field(default=None, ge=0, max_digits=20, decimal_places=10)
    fixed_fee: Decimal | None = Field(default=None, ge=0, max_digits=20, decimal_places=10)
    currency: str | None = Field(default=None, min_length=3, max_length=3)
    tiers: tuple[TierTerms, ...] = Field(default=(), max_length=50)
    committed: Decimal | None = Field(default=None, ge=0, max_digits=20, decimal_places=10)
    fees: Literal["whole", "by_day"] = "whole"
    markup: Decimal | None = Field(default=None, ge=0, max_digits=20, decimal_places=10)

    @model_validator(mode="after")
    def _tiers_or_markup(self) -> Self:
        if self.markup is None and not self.tiers:
            raise ValueError("at least one tier, or a markup")
        if self.markup is not None and (self.tiers or self.included or self.committed):
            raise ValueError("no tiers, nothing included and nothing committed beside a markup")
        return self


class RateChange(RateTerms, Staged):
    """What a seller charges for a product from a day on: one buyer, or (``buyer`` null) all that have no rate of their
    own. ``was`` are the terms of a rate of the same day; ``gone``: that rate shall not be any more."""

    kind: Literal["rate"] = "rate"
    seller: Code
    buyer: Code | None = None
    product: Code
    first_day: Day
    was: RateTerms | None = None
    gone: bool = False

    @property
    def concerns(self) -> str:
        """The buyer, or else the seller."""
        return self.buyer or self.seller

    @property
    def key(self) -> str:
        """Buyer, product and first day name a rate of one's own; seller, product and first day a general one."""
        return "\n".join([*([self.buyer] if self.buyer else ["", self.seller]), self.product, str(self.first_day)])


class Move(Staged):
    """An account, with its branch and all it holds, shall stand below another parent."""

    kind: Literal["move"] = "move"
    account: Code
    parent: Code
    was: Code | None = None

    @property
    def key(self) -> str:
        """The account."""
        return self.account


class LimitTerms(Plain):
    """How much one person may store, in grains, from how many percent on they are told, and what happens beyond it."""

    grains: int = Field(ge=0, le=10**15)
    at_limit: Literal["tell", "stop", "grace"] = "tell"
    tell_at: int = Field(default=90, ge=1, le=100)
    grace_days: int | None = Field(default=None, ge=0, le=3660)

    @model_validator(mode="after")
    def _days_of_grace(self) -> Self:
        if (self.at_limit == "grace") != (self.grace_days is not None):
            raise ValueError("days of grace where there is grace, and only there")
        return self


class PersonLimit(Staged):
    """What an account (for everybody of it and below), or one of its groups, lets each person store of a product; null
    = it sets nothing. ``was`` is what it set before."""

    kind: Literal["person limit"] = "person limit"
    account: Code
    group: Code | None = None
    product: Code
    terms: LimitTerms | None
    was: LimitTerms | None = None

    @property
    def key(self) -> str:
        """Account, group and product."""
        return f"{self.account}\n{self.group or ''}\n{self.product}"


FolderState = Literal["open", "archived", "deleted"]


class FolderChange(Staged):
    """A shared folder shall be open, archived (nothing more is written to it), or deleted after the waiting time."""

    kind: Literal["folder"] = "folder"
    account: Code
    product: Code
    folder: str = Field(min_length=1, max_length=64)
    state: FolderState
    was: FolderState

    @property
    def key(self) -> str:
        """Account, product and folder."""
        return f"{self.account}\n{self.product}\n{self.folder}"


Change = Annotated[  # noqa: UP007
    AllocationChange
    | NewLot
    | LotEnd
    | NewAccount
    | Move
    | StatusChange
    | RateChange
    | UnitsChange
    | PersonLimit
    | FolderChange,
    Field(discriminator="kind"),  # noqa: UP007
]
adapter: TypeAdapter[Change] = TypeAdapter(Change)
