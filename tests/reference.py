"""A second, plain calculation of the same figures, straight from an intake's files: slow, exact, and sharing no
code with the engine. Everything is a Fraction or an int; trees are walked one account at a time."""

from __future__ import annotations

import csv
from collections import defaultdict
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from math import floor
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

Row = dict[str, str]


def instant(text: str) -> datetime:
    return datetime.fromisoformat(text).astimezone(UTC)


def day(text: str) -> date | None:
    return date.fromisoformat(text) if text else None


def half_up(value: Fraction, step: Fraction) -> Fraction:
    return floor(value / step + Fraction(1, 2)) * step


MICRO = Fraction(1, 10**6)
DECIMALS = {"JPY": 0}
GRAINS = {"storage": 1000}


@dataclass
class Reference:
    """The files of an intake, and the questions one can ask of them."""

    folder: Path
    data: dict[str, list[Row]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for path in self.folder.glob("*.csv"):
            with path.open(newline="", encoding="utf-8") as file:
                self.data[path.stem] = list(csv.DictReader(file))
        self.accounts = {row["code"]: row for row in self.data["accounts"]}
        self.parent = {code: row["parent"] or None for code, row in self.accounts.items()}
        self.root = next(code for code, parent in self.parent.items() if parent is None)
        self.zone = ZoneInfo(self.accounts[self.root]["time_zone"] or "UTC")
        self.children: dict[str | None, list[str]] = defaultdict(list)
        for code in sorted(self.accounts):
            self.children[self.parent[code]].append(code)
        self.measure = {row["code"]: row["measure"] for row in self.data["products"]}
        self.owners = {(row["owner"], row["product"]) for row in self.data["lots"]}
        self._pools: dict[tuple[str, str], str | None] = {}
        self._readings: dict[tuple[str, date, date], dict[tuple[date, str], dict[str, Any]]] = {}
        self.order: list[str] = []
        stack = [self.root]
        while stack:
            code = stack.pop()
            self.order.append(code)
            stack.extend(reversed(self.children[code]))
        self.versions: dict[tuple[str, str], list[Row]] = defaultdict(list)
        for row in self.data.get("allocations", []):
            self.versions[row["account"], row["product"]].append(row)
        self.intervals: dict[tuple[str, str], list[tuple[datetime, datetime | None]]] = defaultdict(list)
        for row in self.data.get("assignments", []):
            self.intervals[row["account"], row["product"]].append(
                (instant(row["from"]), instant(row["to"]) if row["to"] else None)
            )
        self.samples: dict[tuple[str, str], dict[str, dict[datetime, int]]] = defaultdict(lambda: defaultdict(dict))
        for row in self.data.get("storage", []):
            self.samples[row["account"], row["product"]][row["category"]][instant(row["at"])] = int(row["bytes"])

    def grains(self, text: str, product: str) -> int | None:
        return int(Decimal(text) * GRAINS.get(self.measure[product], 1)) if text else None

    def per_unit(self, product: str) -> int:
        return GRAINS.get(self.measure[product], 1)

    def up(self, code: str) -> list[str]:
        way = [code]
        while self.parent[way[-1]] is not None:
            way.append(self.parent[way[-1]])  # type: ignore[arg-type]
        return way

    def pool(self, code: str, product: str) -> str | None:
        if (code, product) not in self._pools:
            self._pools[code, product] = next(
                (above for above in self.up(code) if (above, product) in self.owners), None
            )
        return self._pools[code, product]

    def members(self, owner: str, product: str) -> list[str]:
        return [code for code in self.order if self.pool(code, product) == owner]

    def in_force(self, code: str, product: str, on: date) -> Row | None:
        return next(
            (
                row
                for row in self.versions[code, product]
                if day(row["first_day"]) <= on and (not row["last_day"] or on <= day(row["last_day"]))  # type: ignore[operator]
            ),
            None,
        )

    def supply(self, owner: str, product: str, on: date) -> tuple[int, int, int]:
        lots = [
            row
            for row in self.data["lots"]
            if (row["owner"], row["product"]) == (owner, product)
            and day(row["first_day"]) <= on  # type: ignore[operator]
            and (not row["last_day"] or on <= day(row["last_day"]))  # type: ignore[operator]
        ]
        return (
            sum(self.grains(row["quantity"], product) or 0 for row in lots),
            sum(self.grains(row["true_up"], product) or 0 for row in lots),
            max((int(row["overcommit"]) for row in lots if row["overcommit"]), default=100),
        )

    def settle(
        self, owner: str, product: str, own: dict[str, int], reserve: dict[str, int]
    ) -> tuple[dict[str, int], dict[str, int]]:
        members = self.members(owner, product)
        load: dict[str, int] = {}
        held: dict[str, int] = {}
        inside = set(members)
        for code in reversed(members):
            load[code] = own.get(code, 0) + sum(held[child] for child in self.children[code] if child in inside)
            held[code] = load[code] if code == owner else max(reserve.get(code, 0), load[code])
        return load, held

    def together(self, code: str, product: str, per: str) -> list[str]:
        """The accounts of a branch that use the same pools of a product and of the one its cap follows."""
        both = self.pool(code, product), self.pool(code, per)
        branch = [each for each in self.order if code in self.up(each)] if both[1] else []
        return [each for each in branch if both == (self.pool(each, product), self.pool(each, per))]

    def cap_at(self, row: Row | None, code: str, product: str, at: datetime) -> int | None:
        if row is None or not row.get("per"):
            return self.grains(row["cap"], product) if row else None
        seats = sum(self.own_at(each, row["per"], at) for each in self.together(code, product, row["per"]))
        return (self.grains(row["cap"], product) or 0) + (self.grains(row["each"], product) or 0) * seats

    # positions

    def own_at(self, code: str, product: str, at: datetime) -> int:
        if self.measure[product] != "storage":
            return sum(
                1 for begins, ends in self.intervals[code, product] if begins <= at and (ends is None or at < ends)
            )
        stored = 0
        for series in self.samples[code, product].values():
            past = [when for when in series if when <= at]
            if past:
                stored += series[max(past)]
        return floor(Fraction(stored, 10**6) + Fraction(1, 2))

    def load_at(self, code: str, product: str, at: datetime) -> int:
        on = at.astimezone(self.zone).date()
        owner = self.pool(code, product)
        below = [each for each in self.order if code in self.up(each) and self.pool(each, product) == owner]
        held: dict[str, int] = {}
        load = 0
        for each in reversed(below):
            load = self.own_at(each, product, at) + sum(held[child] for child in self.children[each] if child in held)
            row = self.in_force(each, product, on)
            held[each] = max(self.grains(row["reserve"], product) or 0 if row else 0, load)
        return load

    def restricted(self, code: str, product: str, at: datetime) -> tuple[bool, bool]:
        """(in grace, restricted)"""
        owner = self.pool(code, product)
        below = [each for each in self.order if code in self.up(each) and self.pool(each, product) == owner]
        moments: set[datetime] = {at}
        for each in below:
            for begins, ends in self.intervals[each, product]:
                moments |= {begins} | ({ends} if ends else set())
            for series in self.samples[each, product].values():
                moments |= set(series)
            for row in self.versions[each, product]:
                moments.add(self.midnight(day(row["first_day"])))  # type: ignore[arg-type]
                if row["last_day"]:
                    moments.add(self.midnight(day(row["last_day"]) + timedelta(days=1)))  # type: ignore[operator]
        for version in self.versions[code, product]:
            for each in self.together(code, product, version["per"]) if version.get("per") else []:
                for begins, ends in self.intervals[each, version["per"]]:
                    moments |= {begins} | ({ends} if ends else set())
        since = None
        for moment in sorted(each for each in moments if each <= at):
            row = self.in_force(code, product, moment.astimezone(self.zone).date())
            cap = self.cap_at(row, code, product, moment)
            past = bool(
                row and row["at_cap"] == "grace" and cap is not None and self.load_at(code, product, moment) > cap
            )
            since = (since or moment) if past else None
        if since is None:
            return False, False
        row = self.in_force(code, product, at.astimezone(self.zone).date())
        assert row is not None
        over = self.midnight(since.astimezone(self.zone).date() + timedelta(days=int(row["grace_days"]) + 1))
        return True, at >= over

    def midnight(self, on: date) -> datetime:
        return datetime(on.year, on.month, on.day, tzinfo=self.zone).astimezone(UTC)

    def positions(self, product: str, at: datetime) -> dict[str, dict[str, Any]]:
        on = at.astimezone(self.zone).date()
        result: dict[str, dict[str, Any]] = {}
        for owner in [code for code in self.order if (code, product) in self.owners]:
            members = self.members(owner, product)
            rows = {code: self.in_force(code, product, on) for code in members}
            own = {code: self.own_at(code, product, at) for code in members}
            reserve = {code: (self.grains(row["reserve"], product) or 0) if row else 0 for code, row in rows.items()}
            load, held = self.settle(owner, product, own, reserve)
            supply, true_up, overcommit = self.supply(owner, product, on)
            promisable = supply * overcommit // 100 + true_up
            physical = supply + true_up - sum(own.values())
            room: dict[str, tuple[int | None, str]] = {}
            for code in members:
                row = rows[code]
                cap = self.cap_at(row, code, product, at)
                grace, restricted = (False, False)
                if row and cap is not None and load[code] > cap and row["at_cap"] == "grace":
                    grace, restricted = self.restricted(code, product, at)
                hard = cap
                if row and cap is not None and row["at_cap"] in ("grace", "overage") and not restricted:
                    hard = None if not row["burst"] else cap + (self.grains(row["burst"], product) or 0)
                terms: list[tuple[int, str]] = []
                if hard is not None:
                    terms.append((hard - load[code], code))
                if code == owner:
                    terms.append((promisable - load[code], "supply"))
                else:
                    above, by = room[self.parent[code]]  # type: ignore[index]
                    assert above is not None
                    terms.append((held[code] - load[code] + max(0, above), by))
                best = min(terms, key=lambda term: term[0])
                room[code] = best
                shown = (physical, "supply") if physical < best[0] else best
                state = "within"
                if restricted:
                    state = "restricted"
                elif grace:
                    state = "grace"
                elif cap is not None and load[code] > cap:
                    state = "over"
                elif cap is not None and cap != 0 and Fraction(load[code]) >= Fraction(9, 10) * cap:
                    state = "near"
                result[code] = {
                    "reserve": reserve[code],
                    "cap": cap,
                    "own": own[code],
                    "load": load[code],
                    "held": held[code],
                    "headroom": shown[0],
                    "bound_by": shown[1],
                    "state": state,
                }
        return result

    # readings

    def days(self, first: date, last: date) -> list[tuple[date, datetime, datetime, int]]:
        found = []
        on = first
        while on <= last:
            begin, end = self.midnight(on), self.midnight(on + timedelta(days=1))
            found.append((on, begin, end, int((end - begin).total_seconds())))
            on += timedelta(days=1)
        return found

    def own_on(self, code: str, product: str, begin: datetime, end: datetime, seconds: int) -> int:
        if self.measure[product] != "storage":
            total = 0
            for begins, ends in self.intervals[code, product]:
                used = (min(ends or end, end) - max(begins, begin)).total_seconds()
                total += int(max(0, used))
            return total
        byte_seconds = 0
        for series in self.samples[code, product].values():
            moments = sorted(series)
            for place, moment in enumerate(moments):
                until = moments[place + 1] if place + 1 < len(moments) else end
                overlap = (min(until, end) - max(moment, begin)).total_seconds()
                if overlap > 0:
                    byte_seconds += series[moment] * int(overlap)
        average = Fraction(byte_seconds, seconds) / 10**6
        return floor(average + Fraction(1, 2)) * seconds

    def readings(self, product: str, first: date, last: date) -> dict[tuple[date, str], dict[str, Any]]:
        if (product, first, last) in self._readings:
            return self._readings[product, first, last]
        found = self._readings[product, first, last] = {}
        for on, begin, end, seconds in self.days(first, last):
            for owner in [code for code in self.order if (code, product) in self.owners]:
                members = self.members(owner, product)
                own = {code: self.own_on(code, product, begin, end, seconds) for code in members}
                rows = {code: self.in_force(code, product, on) for code in members}
                reserve = {
                    code: ((self.grains(row["reserve"], product) or 0) if row else 0) * seconds
                    for code, row in rows.items()
                }
                load, held = self.settle(owner, product, own, reserve)
                for code in members:
                    row, cap = rows[code], None
                    if row and (row["cap"] or row.get("per")):
                        cap = (self.grains(row["cap"], product) or 0) * seconds
                    if row and row.get("per"):
                        seats = sum(
                            self.own_on(each, row["per"], begin, end, seconds)
                            for each in self.together(code, product, row["per"])
                        )
                        cap = (cap or 0) + (self.grains(row["each"], product) or 0) * seats
                    found[on, code] = {
                        "cap": cap,
                        "own": own[code],
                        "load": load[code],
                        "held": held[code],
                        "reserve": reserve[code],
                        "row": rows[code],
                        "seconds": seconds,
                        "supply": self.supply(owner, product, on)[0] * seconds,
                        "owner": owner,
                    }
        return found

    # statements

    def statement(self, buyer: str, first: date, last: date, decimals: int = 2) -> list[tuple[Any, ...]]:
        rows: list[tuple[Any, ...]] = []
        for product in sorted(self.measure):
            rows.extend(self.line(buyer, product, first, last, decimals))
        return rows

    def line(self, buyer: str, product: str, first: date, last: date, decimals: int) -> list[tuple[Any, ...]]:
        seller = self.parent[buyer]
        rates = [
            row
            for row in self.data.get("rates", [])
            if row["seller"] == seller
            and row["product"] == product
            and row["buyer"] in ("", buyer)
            and day(row["first_day"]) <= first  # type: ignore[operator]
        ]
        if not rates or self.pool(buyer, product) in (None, buyer):
            return []
        rate = self.rate_of(rates)
        tiers = sorted(
            (Fraction(row["from_quantity"]), Fraction(row["unit_price"]))
            for row in self.data["rate_tiers"]
            if all(row[name] == rate[name] for name in ("seller", "buyer", "product", "first_day"))
        )
        read = self.readings(product, first, last)
        branch = [
            code
            for code in self.order
            if buyer in self.up(code) and self.pool(code, product) == self.pool(buyer, product)
        ]
        days = sorted({on for on, _ in read})
        committed = rate["buyer"] and rate.get("committed")
        if not committed and not any(read[on, buyer]["row"] or read[on, buyer]["held"] > 0 for on in days):
            return []
        per = self.per_unit(product)
        quantities: list[tuple[int, int]] = []
        excesses = 0
        length = 0
        for on in days:
            mine = read[on, buyer]
            seconds = mine["seconds"]
            length += seconds
            used = sum(read[on, code]["own"] for code in branch)
            row = mine["row"]
            excess = 0
            if rate["overage_price"]:
                if rate["basis"] == "reserved":
                    excess = max(0, used - mine["reserve"])
                elif row and row["at_cap"] == "overage" and mine["cap"] is not None:
                    measured = used if rate["basis"] == "used" else mine["load"]
                    excess = max(0, measured - mine["cap"])
            quantity = {"used": used, "held": mine["held"], "reserved": mine["reserve"]}[rate["basis"]]
            quantities.append((quantity if rate["basis"] == "reserved" else max(0, quantity - excess), seconds))
            excesses += excess
        if rate["aggregate"] == "average":
            value = Fraction(sum(q for q, _ in quantities), length)
        else:
            ordered = sorted(Fraction(q, seconds) for q, seconds in quantities)
            rank = len(ordered) if rate["aggregate"] == "peak" else -((-95 * len(ordered)) // 100)
            value = ordered[rank - 1]
        Q = half_up(value / per, MICRO)
        V = half_up(Fraction(excesses, length) / per, MICRO)
        least = Fraction(rate.get("committed") or 0)
        chargeable = max(Fraction(0), Q - Fraction(rate["included"] or 0), least)
        amount = Fraction(0)
        cost: Fraction | None = None
        if rate.get("markup"):
            cost = self.cost_of(buyer, product, first, last, self.currency_of(rate))
            amount = (cost or Fraction(0)) * (100 + Fraction(rate["markup"])) / 100
        elif rate["tier_mode"] == "volume":
            amount = chargeable * [price for start, price in tiers if start <= chargeable][-1]
        else:
            for place, (start, price) in enumerate(tiers):
                stop = tiers[place + 1][0] if place + 1 < len(tiers) else None
                part = (chargeable if stop is None else min(chargeable, stop)) - start
                if part > 0:
                    amount += part * price
        amount += V * Fraction(rate["overage_price"] or 0)
        part_of_month = Fraction(1)
        if rate.get("fees") == "by_day":
            there = sum(1 for on in days if read[on, buyer]["row"] or read[on, buyer]["held"] > 0)
            part_of_month = Fraction(there, (last - first).days + 1)
        amount = max(amount, Fraction(rate["minimum"] or 0) * part_of_month)
        amount += Fraction(rate["fixed_fee"] or 0) * part_of_month
        if rate.get("markup") and cost is None:
            amount = Fraction(0)
        minor = int(half_up(amount, Fraction(1, 10**decimals)) * 10**decimals)
        weights = [
            sum(
                read[on, code]["own"]
                + (0 if rate["basis"] == "used" else read[on, code]["held"] - read[on, code]["load"])
                for on in days
            )
            for code in branch
        ]
        rows: list[tuple[Any, ...]] = [(product, "", Q, V, minor)]
        if not any(weights):
            return [*rows, (product, buyer, Fraction(0), None, minor)]
        for code, weight, part in zip(branch, weights, self.share(minor, weights), strict=True):
            if weight:
                rows.append((product, code, half_up(Fraction(weight, length) / per, MICRO), None, part))
        return rows

    @staticmethod
    def rate_of(rates: list[Row]) -> Row:
        return max(rates, key=lambda row: (row["buyer"] != "", row["first_day"]))

    def currency_of(self, row: Row) -> str:
        """A row's currency, or its seller's, or that of the nearest above."""
        return row["currency"] or next(
            found for code in self.up(row["seller"]) if (found := self.accounts[code]["currency"])
        )

    def worth(self, of: str, into: str, last: date) -> Fraction | None:
        if of == into:
            return Fraction(1)
        best: tuple[str, int, Fraction] | None = None
        for row in self.data.get("exchange_rates", []):
            if date.fromisoformat(row["day"]) <= last:
                if (row["from"], row["to"]) == (of, into):
                    best = max(best or ("", 0, Fraction(0)), (row["day"], 1, Fraction(row["rate"])))
                elif (row["from"], row["to"]) == (into, of):
                    best = max(best or ("", 0, Fraction(0)), (row["day"], 0, 1 / Fraction(row["rate"])))
        return best[2] if best else None

    def cost_of(self, buyer: str, product: str, first: date, last: date, into: str) -> Fraction | None:
        """What a buyer's product cost its seller, unrounded, in a currency."""
        seller = self.parent[buyer]
        assert seller is not None
        spent: list[tuple[str, Fraction]] = []
        if (seller, product) in self.owners:
            for owner, account, _, minor, currency in self.costs(product, first, last):
                if (owner, account) == (seller, buyer):
                    spent.append((currency, Fraction(minor, 10 ** DECIMALS.get(currency, 2))))
        else:
            currency = self.line_currency(seller, product, first)
            rows = self.line(seller, product, first, last, DECIMALS.get(currency, 2)) if currency else []
            if not rows:
                return None
            inside = sum(row[4] for row in rows if row[1] and buyer in self.up(row[1]))
            spent.append((currency, Fraction(inside, 10 ** DECIMALS.get(currency, 2))))
        total = Fraction(0)
        for currency, amount in spent:
            worth = self.worth(currency, into, last)
            if amount and worth is None:
                return None
            total += amount * (worth or 0)
        return total

    def line_currency(self, buyer: str, product: str, first: date) -> str:
        rates = [
            row
            for row in self.data.get("rates", [])
            if row["seller"] == self.parent[buyer]
            and row["product"] == product
            and row["buyer"] in ("", buyer)
            and date.fromisoformat(row["first_day"]) <= first
        ]
        return self.currency_of(self.rate_of(rates)) if rates else ""

    @staticmethod
    def share(minor: int, weights: list[int]) -> list[int]:
        whole = sum(weights)
        exact = [Fraction(minor * weight, whole) for weight in weights]
        parts = [floor(each) for each in exact]
        order = sorted(range(len(weights)), key=lambda i: (-(exact[i] - parts[i]), -weights[i], i))
        for place in order[: minor - sum(parts)]:
            parts[place] += 1
        return parts

    def costs(
        self, product: str, first: date, last: date, spread: bool | None = None
    ) -> list[tuple[str, str, Fraction, int, str]]:
        """Owner, account, quantity, cost in minor units and currency; idle by the product's choice if not said."""
        if spread is None:
            choice = next(row for row in self.data["products"] if row["code"] == product)
            spread = choice.get("idle") == "spread"
        lots = [
            (row["currency"] or self.currency_of({**row, "seller": row["owner"]}), row) for row in self.data["lots"]
        ]
        pairs = {(row["owner"], currency) for currency, row in lots if row["product"] == product}
        return [
            (*each, currency)
            for owner in [code for code in self.order if (code, product) in self.owners]
            for currency in sorted(currency for of, currency in pairs if of == owner)
            for each in self._costs(
                product, first, last, spread, owner, [row for of, row in lots if of == currency], currency
            )
        ]

    def _costs(
        self, product: str, first: date, last: date, spread: bool, owner: str, lots: list[Row], currency: str
    ) -> list[tuple[str, str, Fraction, int]]:
        read = self.readings(product, first, last)
        days = sorted({on for on, _ in read})
        result: list[tuple[str, str, Fraction, int]] = []
        whole = 10 ** DECIMALS.get(currency, 2)
        cost = Fraction(0)
        for row in lots:
            if (row["owner"], row["product"]) != (owner, product):
                continue
            covered = sum(
                1
                for on in days
                if day(row["first_day"]) <= on and (not row["last_day"] or on <= day(row["last_day"]))  # type: ignore[operator]
            )
            cost += Fraction(row["quantity"]) * Fraction(row["unit_cost"]) * Fraction(covered, len(days))
        minor = int(half_up(cost, Fraction(1, whole)) * whole)
        length = sum(read[on, owner]["seconds"] for on in days)
        named = [(owner, sum(read[on, owner]["own"] for on in days))]
        for code in self.children[owner]:
            if self.pool(code, product) == owner:
                named.append((code, sum(read[on, code]["held"] for on in days)))
        if not spread:
            named.append(("idle", max(0, sum(read[on, owner]["supply"] for on in days) - sum(w for _, w in named))))
        weights = [weight for _, weight in named]
        parts = self.share(minor, weights) if any(weights) else [minor] + [0] * (len(named) - 1)
        per = self.per_unit(product)
        result.extend(
            (owner, name, half_up(Fraction(weight, length) / per, MICRO), part)
            for (name, weight), part in zip(named, parts, strict=True)
        )

        return result
