"""The rules of a whole intake, seen together with what is already there: each a small function that notes faults."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Hashable, Iterable
from dataclasses import dataclass
from datetime import date
from functools import cached_property
from typing import Any

import numpy as np

from fair_ladle.app.assignments.eligibility import RESERVED
from fair_ladle.app.data_import.reading import Intake, Parsed
from fair_ladle.app.people.filters import clause
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.allocations import AtCap, Version, overlaps
from fair_ladle.core.quantities import MOST_GRAINS, STORAGE, to_grains, to_units

Key = tuple[Hashable, ...]


@dataclass(frozen=True)
class There:
    """What is already in the database, as far as the rules need it."""

    parents: dict[str, str | None]
    currencies: dict[str, str | None]
    measures: dict[str, str]
    owners: frozenset[tuple[str, str]]
    """Who owns a pool of which product."""
    versions: dict[tuple[str, str], list[Version]]
    usernames: frozenset[str]
    group_codes: frozenset[str]
    rate_keys: frozenset[Key]
    markup_keys: frozenset[Key]
    """Those of them that are a markup."""


OF_BUYER = ("charges", "discounts", "credits")
"""The tables of what one buyer is charged, or gets off."""

NO_CURRENCY = "a currency, since no account above has one"


def _rate_key(row: dict[str, Any]) -> Key:
    return (row["seller"], row["buyer"], row["product"], row["first_day"])


def _all_differ(keys: Iterable[Key]) -> bool:
    """Whether no two of these can be the same: by their hashes, so that millions need not be kept."""
    hashes = np.fromiter(map(hash, keys), np.int64)
    return len(np.unique(hashes)) == len(hashes)


class Checks:
    """The intake and what is there, looked at as one."""

    def __init__(self, intake: Intake, there: There):
        self.intake = intake
        self.there = there
        self.parents = dict(there.parents)
        self.parents.update({row["code"]: row["parent"] for _, row in intake.table("accounts")})
        self.measures = dict(there.measures)
        self.measures.update({row["code"]: row["measure"] for _, row in intake.table("products")})
        self.owners = set(there.owners)
        self.owners.update((row["owner"], row["product"]) for _, row in intake.table("lots"))
        self.accounts_known = "accounts" not in intake.unreadable
        self.products_known = "products" not in intake.unreadable
        self.tree_sound = True
        self._pool_owner: dict[tuple[str, str], str | None] = {}

    def run(self) -> None:
        """Every rule in turn; all faults stand in the intake afterwards."""
        for rule in (
            self.keys_once,
            self.accounts_known_everywhere,
            self.products_known_everywhere,
            self.one_tree,
            self.measure_kept,
            self.products_refer,
            self.lots_sound,
            self.pools_reach,
            self.allocations_sound,
            self.versions_apart,
            self.assignments_sound,
            self.storage_sound,
            self.usernames_sound,
            self.members_known,
            self.group_rules_readable,
            self.groups_not_in_themselves,
            self.tiers_sound,
            self.markups_sound,
            self.buyers_below_sellers,
            self.money_sound,
            self.days_in_order,
        ):
            rule()

    # keys and references

    def keys_once(self) -> None:
        """No two rows of one key, where a second one would contradict the first."""
        keys: dict[str, Callable[[dict[str, Any]], Key]] = {
            "accounts": lambda r: (r["code"],),
            "products": lambda r: (r["code"],),
            "lots": lambda r: (r["reference"], r["owner"], r["product"], r["first_day"]),
            "allocations": lambda r: (r["account"], r["product"], r["first_day"]),
            "people": lambda r: (r["username"],),
            "groups": lambda r: (r["account"], r["code"]),
            "assignments": lambda r: (r["account"], r["product"], r["subject"], r["from"]),
            "rates": lambda r: (r["seller"], r["buyer"], r["product"], r["first_day"]),
            "rate_tiers": lambda r: (r["seller"], r["buyer"], r["product"], r["first_day"], r["from_quantity"]),
            **dict.fromkeys(OF_BUYER, lambda r: (r["seller"], r["buyer"], r["reference"])),
            "tax_rates": lambda r: (r["seller"], r["tax_class"], r["first_day"]),
            "exchange_rates": lambda r: (r["day"], r["from"], r["to"]),
        }
        for table, key in keys.items():
            rows = self.intake.table(table)
            if _all_differ(key(row) for _, row in rows):
                continue
            seen: dict[Key, int] = {}
            for number, row in rows:
                first = seen.setdefault(key(row), number)
                if first != number:
                    what = ", ".join(str(part) for part in key(row) if part is not None)
                    self.intake.fault(table, number, None, f"{what} again", f"one row of it (the first is row {first})")

    def accounts_known_everywhere(self) -> None:
        """Every account named anywhere exists."""
        if not self.accounts_known:
            return
        for table, columns in {
            "accounts": ("parent",),
            "lots": ("owner",),
            "allocations": ("account",),
            "people": ("account",),
            "groups": ("account",),
            "assignments": ("account",),
            "storage": ("account",),
            "rates": ("seller", "buyer"),
            "rate_tiers": ("seller", "buyer"),
            **dict.fromkeys(OF_BUYER, ("seller", "buyer")),
            "tax_rates": ("seller",),
        }.items():
            self._known(
                table,
                columns,
                self.parents.keys() | self._dropped("accounts"),
                "the code of an account in accounts.csv",
            )

    def products_known_everywhere(self) -> None:
        """Every product named anywhere exists."""
        if not self.products_known:
            return
        for table in ("lots", "allocations", "assignments", "storage", "rates", "rate_tiers", "discounts"):
            self._known(
                table,
                ("product",),
                self.measures.keys() | self._dropped("products"),
                "the code of a product in products.csv",
            )
        self._known("allocations", ("per",), self.measures.keys() | self._dropped("products"), "the code of a product")

    def _dropped(self, table: str) -> set[str]:
        return {row["code"] for row in self.intake.dropped.get(table, []) if row.get("code")}

    def _known(self, table: str, columns: Iterable[str], known: set[str], expected: str) -> None:
        rows = self.intake.table(table)
        for column in (each for each in columns if each in rows.names):
            for number, value in rows.values(column):
                if value is not None and value not in known:
                    self.intake.fault(table, number, column, value, expected)

    # accounts and products

    def one_tree(self) -> None:
        """One operator at the root, and no account above itself."""
        rows = self.intake.table("accounts")
        before = len(self.intake.faults)
        for number, row in rows:
            if (row["kind"] == "operator") != (row["parent"] is None):
                expected = (
                    "no parent for the operator" if row["kind"] == "operator" else "the code of the account above"
                )
                self.intake.fault("accounts", number, "parent", row["parent"] or "nothing", expected)
        roots = [code for code, parent in self.parents.items() if parent is None]
        if len(roots) > 1:
            for number, row in rows:
                if row["parent"] is None and row["code"] != roots[0]:
                    self.intake.fault("accounts", number, "kind", row["code"], f"one operator; {roots[0]} is it")
        if not roots and self.accounts_known:
            self.intake.fault("accounts", 1, "kind", "no operator", "one account of kind operator, without a parent")
        number_of = {row["code"]: number for number, row in rows}
        settled: set[str] = set()
        for start in self.parents:
            way: list[str] = []
            on_way: set[str] = set()
            at: str | None = start
            while at is not None and at in self.parents and at not in settled and at not in on_way:
                way.append(at)
                on_way.add(at)
                at = self.parents[at]
            if at in on_way:
                circle = way[way.index(at) :]
                self.intake.fault(
                    "accounts",
                    number_of.get(circle[-1], 1),
                    "parent",
                    " under ".join([*circle, circle[0]]),
                    "a parent that is not below the account itself",
                )
            settled.update(way)
        self.tree_sound = len(self.intake.faults) == before

    def measure_kept(self) -> None:
        """A product that is there keeps its measure."""
        for number, row in self.intake.table("products"):
            there = self.there.measures.get(row["code"])
            if there is not None and there != row["measure"]:
                self.intake.fault(
                    "products", number, "measure", row["measure"], f"{there}, as it was; a new measure is a new product"
                )

    def products_refer(self) -> None:
        """Base products and successors exist."""
        if not self.products_known:
            return
        for number, row in self.intake.table("products"):
            for column, named in (
                ("requires", row["requires"]),
                ("successor", [row["successor"]] if row["successor"] else []),
            ):
                for code in named:
                    if code not in self.measures:
                        self.intake.fault("products", number, column, code, "the code of a product in products.csv")
        family = {row["code"]: row["family"] for _, row in self.intake.table("products")}
        above = {
            row["code"]: row["successor"]
            for _, row in self.intake.table("products")
            if row["family"] and family.get(row["successor"]) == row["family"]
        }
        for number, row in self.intake.table("products"):
            code, steps = above.get(row["code"]), 0
            while code is not None and code != row["code"] and steps < len(above):
                code, steps = above.get(code), steps + 1
            if code == row["code"]:
                self.intake.fault(
                    "products", number, "successor", row["successor"], "a product that does not lead back to this one"
                )

    # pools

    def lots_sound(self) -> None:
        """Whole grains; overcommit for storage only; a currency, the owner's where none is said."""
        for number, row in self.intake.table("lots").changing():
            self._grains("lots", number, row, ("quantity", "true_up"))
            if row["overcommit"] is not None and self.measures.get(row["product"], STORAGE) != STORAGE:
                self.intake.fault(
                    "lots", number, "overcommit", row["overcommit"], "nothing: only storage can be overcommitted"
                )
            if row["currency"] is None:
                row["currency"] = self._currency(row["owner"])
            if row["currency"] is None:
                self.intake.fault("lots", number, "currency", "nothing", NO_CURRENCY)

    @cached_property
    def _currencies(self) -> dict[str, str | None]:
        return {code: currency for _, (code, currency) in self.intake.table("accounts").values("code", "currency")}

    def _currency(self, code: str | None) -> str | None:
        for _ in range(len(self.parents)):
            if code is None:
                return None
            found = self._currencies.get(code) or self.there.currencies.get(code)
            if found:
                return found
            code = self.parents.get(code)
        return None

    def pool_owner(self, account: str, product: str) -> str | None:
        """The owner of the nearest pool of a product upwards from an account."""
        way: list[str] = []
        at: str | None = account
        found: str | None = None
        while at is not None and len(way) <= len(self.parents):
            if (at, product) in self._pool_owner:
                found = self._pool_owner[at, product]
                break
            way.append(at)
            if (at, product) in self.owners:
                found = at
                break
            at = self.parents.get(at)
        for each in way:
            self._pool_owner[each, product] = found
        return found

    def pools_reach(self) -> None:
        """Where something is allocated or used, a pool of the product is there or above."""
        if not (self.tree_sound and self.accounts_known and self.products_known) or "lots" in self.intake.unreadable:
            return
        if any(self.intake.dropped.get(table) for table in ("accounts", "products", "lots")):
            return
        for table in ("allocations", "assignments", "storage"):
            missing: dict[tuple[str, str], int] = {}
            for number, pair in self.intake.table(table).values("account", "product"):
                if pair[0] in self.parents and pair[1] in self.measures and self.pool_owner(*pair) is None:
                    missing.setdefault(pair, number)
            for (account, product), number in missing.items():
                self.intake.fault(
                    table, number, "product", product, f"a product of which {account} or an account above it has a lot"
                )

    def _grains(self, table: str, number: int, row: dict[str, Any], columns: Iterable[str]) -> bool:
        """Turn units into grains in place; False where one is not whole or too large."""
        measure = self.measures.get(row["product"])
        sound = measure is not None
        for column in columns:
            if row[column] is None or measure is None:
                continue
            try:
                grains = to_grains(row[column], measure)
                if grains > MOST_GRAINS:
                    raise ValueError
                row[column] = grains
            except ValueError:
                finest = "a quantity in GB with at most 3 decimals" if measure == STORAGE else "a whole number of units"
                self.intake.fault(table, number, column, row[column], f"{finest}, at most {to_grains_limit(measure)}")
                sound = False
        return sound

    # allocations

    def allocations_sound(self) -> None:
        """Whole grains; a reserve never over its cap; a pool's owner has no reserve; grace has its days."""
        for number, row in self.intake.table("allocations").changing():
            grains = ("reserve", "cap", "burst", *(name for name in ("each",) if name in row))
            if not self._grains("allocations", number, row, grains):
                continue
            self._seats_followed(number, row)
            # Where the cap follows seats, what is reserved may not be over what it is without any.
            if (row["cap"] is not None or row.get("per") is not None) and row["reserve"] > (row["cap"] or 0):
                measure = self.measures[row["product"]]
                cap = "nothing" if row["cap"] is None else f"{to_units(row['cap'], measure):f}"
                least = f"a cap of at least the reserve, {to_units(row['reserve'], measure):f}"
                self.intake.fault("allocations", number, "cap", cap, least)
            if row["reserve"] and (row["account"], row["product"]) in self.owners:
                self.intake.fault(
                    "allocations",
                    number,
                    "reserve",
                    row["reserve"],
                    f"no reserve: {row['account']} owns the pool itself",
                )
            if row["at_cap"] == AtCap.GRACE and row["grace_days"] is None:
                self.intake.fault("allocations", number, "grace_days", "nothing", "how many days of grace")

    def _seats_followed(self, number: int, row: dict[str, Any]) -> None:
        """A cap that follows seats is of storage, and says which product's and how much each brings."""
        per, each = row.get("per"), row.get("each")
        if per is None and each is not None:
            self.intake.fault("allocations", number, "per", "nothing", "whose seats bring that much each, or no each")
        elif per is not None and self.measures[row["product"]] != STORAGE:
            self.intake.fault("allocations", number, "per", per, "nothing: only caps of storage follow seats")
        elif per is not None and self.measures.get(per) == STORAGE:
            self.intake.fault("allocations", number, "per", per, "a product that is counted, not storage")
        elif per is not None and each is None:
            self.intake.fault("allocations", number, "each", "nothing", f"how many GB each seat of {per} brings")

    def versions_apart(self) -> None:
        """Versions of one allocation never overlap, those that are there included."""
        mine: dict[tuple[str, str], dict[date, tuple[int, Version]]] = defaultdict(dict)
        for number, row in self.intake.table("allocations"):
            if row["last_day"] is not None and row["last_day"] < row["first_day"]:
                continue
            mine[row["account"], row["product"]][row["first_day"]] = (
                number,
                Version(row["account"], row["first_day"], row["last_day"]),
            )
        for pair, new in mine.items():
            kept = [version for version in self.there.versions.get(pair, []) if version.first_day not in new]
            for earlier, later in overlaps([*kept, *(version for _, version in new.values())]):
                number = new.get(later.first_day, new.get(earlier.first_day, (1, later)))[0]
                until = earlier.last_day or "for good"
                self.intake.fault(
                    "allocations",
                    number,
                    "first_day",
                    later.first_day,
                    f"a day after the version from {earlier.first_day} ends ({until})",
                )

    # usage

    def assignments_sound(self) -> None:
        """Only counted products are assigned; an assignment does not end before it begins."""
        for number, row in self.intake.table("assignments"):
            if self.measures.get(row["product"]) == STORAGE:
                self.intake.fault(
                    "assignments", number, "product", row["product"], "a counted product; bytes stand in storage.csv"
                )
            if row["to"] is not None and row["to"] < row["from"]:
                self.intake.fault("assignments", number, "to", row["to"].isoformat(), "an instant after from")

    def storage_sound(self) -> None:
        """Only storage is sampled."""
        for number, product in self.intake.table("storage").values("product"):
            if self.measures.get(product, STORAGE) != STORAGE:
                self.intake.fault("storage", number, "product", product, "a product measured as storage")

    # people, prices, days

    def usernames_sound(self) -> None:
        """Nobody is called like a seat that is set aside for somebody."""
        for number, username in self.intake.table("people").values("username"):
            if username.startswith(RESERVED):
                self.intake.fault(
                    "people", number, "username", username, f"a username that does not begin with {RESERVED}"
                )

    def members_known(self) -> None:
        """Members of groups are people or groups."""
        if "people" in self.intake.unreadable:
            return
        known = self.there.usernames | self.there.group_codes
        known |= {username for _, username in self.intake.table("people").values("username")}
        known |= {row["code"] for _, row in self.intake.table("groups")}
        for number, row in self.intake.table("groups"):
            for member in row["members"]:
                if member not in known:
                    self.intake.fault("groups", number, "members", member, "a username in people.csv or a group's code")

    def group_rules_readable(self) -> None:
        """The rule of a group is a filter over people."""
        for number, row in self.intake.table("groups"):
            if row["rule"]:
                try:
                    clause(row["rule"])
                except Refused as refused:
                    self.intake.fault("groups", number, "rule", row["rule"], f"a SCIM filter. {refused.problem.detail}")

    def groups_not_in_themselves(self) -> None:
        """No group is inside itself, however deep."""
        rows = {(row["account"], row["code"]): (number, row) for number, row in self.intake.table("groups")}
        of_code: dict[str, list[tuple[str, str]]] = defaultdict(list)
        for key in rows:
            of_code[key[1]].append(key)

        def inside(key: tuple[str, str]) -> list[tuple[str, str]]:
            account, members = key[0], rows[key][1]["members"]
            return [
                each
                for member in members
                for each in ([(account, member)] if (account, member) in rows else of_code.get(member, []))
            ]

        for key, (number, row) in rows.items():
            seen, waiting = set(), inside(key)
            while waiting:
                each = waiting.pop()
                if each == key:
                    self.intake.fault(
                        "groups",
                        number,
                        "members",
                        ";".join(row["members"])[:80],
                        f"no group that has {row['code']} itself inside",
                    )
                    break
                if each not in seen:
                    seen.add(each)
                    waiting.extend(inside(each))

    def tiers_sound(self) -> None:
        """Every new rate without a markup has tiers, the first from 0; every tier has a rate."""
        key = _rate_key
        tiers: dict[Key, list[Parsed]] = defaultdict(list)
        for number, row in self.intake.table("rate_tiers"):
            tiers[key(row)].append((number, row))
        rates = {key(row) for _, row in self.intake.table("rates")}
        if "rate_tiers" not in self.intake.unreadable:
            for number, row in self.intake.table("rates"):
                mine = tiers.get(key(row), [])
                if row.get("markup") is not None:
                    continue
                if not mine and key(row) not in self.there.rate_keys - self.there.markup_keys:
                    self.intake.fault(
                        "rates", number, None, "no tiers", "at least one row in rate_tiers.csv, from_quantity 0"
                    )
                elif mine and min(tier["from_quantity"] for _, tier in mine) != 0:
                    self.intake.fault(
                        "rate_tiers",
                        mine[0][0],
                        "from_quantity",
                        mine[0][1]["from_quantity"],
                        "0 for the rate's first tier",
                    )
        if "rates" not in self.intake.unreadable:
            for each, mine in tiers.items():
                if each not in rates and each not in self.there.rate_keys:
                    self.intake.fault(
                        "rate_tiers",
                        mine[0][0],
                        None,
                        "tiers of no rate",
                        "a row in rates.csv with the same seller, buyer, product and first_day",
                    )

    def markups_sound(self) -> None:
        """A rate that is a markup has no tiers, nothing included and nothing committed."""
        markups = {_rate_key(row) for _, row in self.intake.table("rates") if row.get("markup") is not None}
        for number, row in self.intake.table("rates"):
            if _rate_key(row) in markups:
                for column in ("included", "committed"):
                    if row.get(column):
                        self.intake.fault("rates", number, column, row[column], "nothing beside a markup")
        replaced = {_rate_key(row) for _, row in self.intake.table("rates") if "markup" in row}
        for number, row in self.intake.table("rate_tiers"):
            if _rate_key(row) in markups | (self.there.markup_keys - replaced):
                self.intake.fault(
                    "rate_tiers", number, None, "tiers of a markup", "no tiers where the rate has a markup"
                )

    def buyers_below_sellers(self) -> None:
        """Who is charged, or given something off, stands directly below who does it."""
        for table in OF_BUYER:
            for number, row in self.intake.table(table):
                if row["buyer"] in self.parents and self.parents[row["buyer"]] != row["seller"]:
                    expected = f"an account directly below {row['seller']}"
                    self.intake.fault(table, number, "buyer", row["buyer"], expected)

    def money_sound(self) -> None:
        """Credits and ceilings are of a currency and no finer than its minor unit; a rate is between two currencies."""
        for table in OF_BUYER:
            amount = {"credits": "amount", "discounts": "ceiling"}.get(table)
            for number, row in self.intake.table(table):
                if table == "discounts" and row["ceiling"] is None:
                    continue
                currency = row["currency"] or self._currency(row["seller"])
                if currency is None:
                    self.intake.fault(table, number, "currency", "nothing", NO_CURRENCY)
                elif amount and row[amount] != round(row[amount], decimals_of(currency)):
                    expected = f"an amount in {currency} with at most {decimals_of(currency)} decimals"
                    self.intake.fault(table, number, amount, row[amount], expected)
        for number, row in self.intake.table("exchange_rates"):
            if row["from"] == row["to"]:
                self.intake.fault("exchange_rates", number, "to", row["to"], f"another currency than {row['from']}")

    def days_in_order(self) -> None:
        """A last day is not before the first."""
        for table in ("lots", "allocations", *OF_BUYER):
            for number, row in self.intake.table(table):
                if row["last_day"] is not None and row["last_day"] < row["first_day"]:
                    self.intake.fault(
                        table, number, "last_day", row["last_day"], f"a day not before the first, {row['first_day']}"
                    )


def to_grains_limit(measure: str) -> str:
    """The largest quantity taken in, in words."""
    return "100 000 000 GB" if measure == STORAGE else f"{MOST_GRAINS:,}".replace(",", " ")
