"""Whole statements by the second, plain calculation: a dictionary of rows in minor units for each currency."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, timedelta
from fractions import Fraction
from math import floor
from typing import Any

from tests.reference import DECIMALS, Reference, Row

Key = tuple[str, str]
"""Kind and reference."""


def nearest(amount: Fraction) -> int:
    """Rounded half up, away from zero."""
    return -floor(-amount + Fraction(1, 2)) if amount < 0 else floor(amount + Fraction(1, 2))


def month_of(day: date) -> tuple[date, date]:
    first = day.replace(day=1)
    return first, (first + timedelta(days=32)).replace(day=1) - timedelta(days=1)


def covered(row: Row, first: date, last: date) -> int:
    begin = max(date.fromisoformat(row["first_day"]), first)
    end = min(date.fromisoformat(row["last_day"]) if row["last_day"] else last, last)
    return max(0, (end - begin).days + 1)


@dataclass
class Month:
    """What stands on the statements of a buyer: by currency the lines, with their parts, and everything else."""

    lines: dict[str, list[tuple[Any, ...]]] = field(default_factory=dict)
    rows: dict[str, dict[Key, int]] = field(default_factory=dict)


class Statements(Reference):
    """Statements of an intake in full; nothing is closed."""

    def __post_init__(self) -> None:
        super().__post_init__()
        self._months: dict[tuple[str, date], Month] = {}

    def of_buyer(self, table: str, buyer: str) -> list[Row]:
        found = [row for row in self.data.get(table, []) if row["buyer"] == buyer]
        return sorted(found, key=lambda row: (row["first_day"], row["reference"]))

    def percent(self, seller: str, tax_class: str, last: date) -> Fraction | None:
        fitting = [
            (row["first_day"], Fraction(row["percent"]))
            for row in self.data.get("tax_rates", [])
            if (row["seller"], row["tax_class"]) == (seller, tax_class) and date.fromisoformat(row["first_day"]) <= last
        ]
        return max(fitting)[1] if fitting else None

    def month(self, buyer: str, first: date) -> Month:
        if (buyer, first) not in self._months:
            self._months[buyer, first] = self._month(buyer, *month_of(first))
        return self._months[buyer, first]

    def _month(self, buyer: str, first: date, last: date) -> Month:
        seller = self.parent[buyer]
        assert seller is not None
        length = (last - first).days + 1
        found = Month()
        owed: dict[str, list[tuple[str, str, int, str]]] = {}
        classes = {row["code"]: row.get("tax_class", "") for row in self.data["products"]}
        for product in sorted(self.measure):
            currency = self.line_currency(buyer, product, first)
            rows = self.line(buyer, product, first, last, DECIMALS.get(currency, 2)) if currency else []
            if rows:
                found.lines.setdefault(currency, []).extend(rows)
                owed.setdefault(currency, []).append(("usage", product, rows[0][4], classes[product]))
        for row in sorted(self.of_buyer("charges", buyer), key=lambda row: row["reference"]):
            whole = Fraction(row["quantity"] or 1) * Fraction(row["unit_price"])
            if row["every"] == "month":
                if not covered(row, first, last):
                    continue
                if row["fees"] == "by_day":
                    whole *= Fraction(covered(row, first, last), length)
            elif not first <= date.fromisoformat(row["first_day"]) <= last:
                continue
            currency = self.currency_of(row)
            minor = nearest(whole * 10 ** DECIMALS.get(currency, 2))
            owed.setdefault(currency, []).append(("charge", row["reference"], minor, row["tax_class"]))
        for currency, mine in owed.items():
            found.rows[currency] = self.compose(seller, buyer, currency, mine, first, last)
        return found

    def given(self, buyer: str, kind: str, row: Row, currency: str, first: date) -> int:
        month, total = date(2025, 11, 1), 0
        while month < first:
            if month >= date.fromisoformat(row["first_day"]).replace(day=1):
                total -= self.month(buyer, month).rows.get(currency, {}).get((kind, row["reference"]), 0)
            month = month_of(month)[1] + timedelta(days=1)
        return total

    def compose(
        self, seller: str, buyer: str, currency: str, owed: list[tuple[str, str, int, str]], first: date, last: date
    ) -> dict[Key, int]:
        unit = 10 ** DECIMALS.get(currency, 2)
        length = (last - first).days + 1
        rows: dict[Key, int] = {(kind, reference): amount for kind, reference, amount, _ in owed}
        off = [0] * len(owed)
        for row in self.of_buyer("discounts", buyer):
            if (row["currency"] or row["ceiling"]) and currency != self.currency_of(row):
                continue
            named = [
                place
                for place, (kind, reference, _, _) in enumerate(owed)
                if not row["product"] or (kind, reference) == ("usage", row["product"])
            ]
            base = sum(owed[place][2] for place in named)
            amount = nearest(
                Fraction(base) * Fraction(row["percent"]) / 100 * Fraction(covered(row, first, last), length)
            )
            amount = min(amount, sum(owed[place][2] - off[place] for place in named))
            if row["ceiling"]:
                amount = min(
                    amount, int(Fraction(row["ceiling"]) * unit) - self.given(buyer, "discount", row, currency, first)
                )
            if amount <= 0:
                continue
            for place, part in zip(named, self.share(amount, [owed[place][2] for place in named]), strict=True):
                off[place] += part
            rows["discount", row["reference"]] = -amount
        left = [max(0, each[2] - less) for each, less in zip(owed, off, strict=True)]
        total = sum(each[2] for each in owed) - sum(off)
        for row in self.of_buyer("credits", buyer):
            if currency != self.currency_of(row) or not covered(row, first, last):
                continue
            amount = min(total, int(Fraction(row["amount"]) * unit) - self.given(buyer, "credit", row, currency, first))
            if amount <= 0:
                continue
            for place, part in enumerate(self.share(amount, left)):
                off[place] += part
            total -= amount
            rows["credit", row["reference"]] = -amount
        status = self.accounts[buyer].get("tax") or "normal"
        if status != "normal":
            rows["tax", status] = 0
            return rows
        bases: dict[Fraction, int] = {}
        for (_, _, amount, tax_class), less in zip(owed, off, strict=True):
            percent = self.percent(seller, tax_class, last) if tax_class else None
            if percent is not None:
                bases[percent] = bases.get(percent, 0) + amount - less
        for percent, base in bases.items():
            rows["tax", f"{float(percent):g}"] = nearest(base * percent / 100)
        return rows
