"""An intake of any size: a made-up operator with resellers, clients and departments up to six deep, in proportion."""

from __future__ import annotations

import csv
import random
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

SEATS = ("MAIL", "FIELD", "DRAW", "PLAN", "CALL")
OTHERS = {"KIT": "item", "DESK": "device", "REMOTE": "session"}
STORAGE = ("SHELF", "VAULT")
TITLES = ("Manager", "Director", "Officer", "Engineer", "Assistant", "Apprentice")
Row = tuple[object, ...]


@dataclass(frozen=True)
class Size:
    """How much of each there is."""

    accounts: int
    people: int
    groups: int
    storage_days: int = 30
    products: int = 10

    @property
    def seats(self) -> tuple[str, ...]:
        """The products that people take: what there are more than ten are of these."""
        return (*SEATS, *(f"SEAT{n}" for n in range(self.products - len(SEATS) - len(OTHERS) - len(STORAGE))))

    @property
    def every_product(self) -> tuple[str, ...]:
        return (*self.seats, *OTHERS, *STORAGE)

    @property
    def resellers(self) -> int:
        return max(1, self.accounts // 400)

    @property
    def clients(self) -> int:
        return max(4, self.accounts // 5)


def _write(folder: Path, name: str, header: str, rows: Iterable[Row]) -> int:
    count = 0
    with (folder / f"{name}.csv").open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(header.split(","))
        for row in rows:
            writer.writerow(["" if each is None else each for each in row])
            count += 1
    return count


def write(folder: Path, size: Size, today: datetime) -> dict[str, int]:
    """Write the tables of an intake; how many rows each has.

    Args:
        folder: where to, made if it is not there.
        size: how much of each.
        today: what the dates lie before, most of them; an instant in UTC.
    """
    folder.mkdir(parents=True, exist_ok=True)
    chance = random.Random(11)
    parent: dict[str, str] = {"MSP": ""}
    kind = {"MSP": "operator"}
    for n in range(size.resellers):
        parent[f"R{n}"], kind[f"R{n}"] = "MSP", "reseller"
    for n in range(size.clients):
        code = f"C{n}"
        parent[code], kind[code] = (f"R{n % size.resellers}" if n % 2 else "MSP"), "client"
    # A client of a hundred departments, whatever the size: what its admin is shown does not grow.
    big = min(100, size.accounts // 8)
    inside: dict[int, list[str]] = {n: [f"C{n}"] for n in range(size.clients)}
    while len(parent) < size.accounts:
        at = 0 if len(inside[0]) <= big else chance.randrange(1, size.clients)
        code = f"C{at}-{len(inside[at])}"
        parent[code], kind[code] = chance.choice(inside[at][-3:]), "sub-account"
        inside[at].append(code)
    codes = list(parent)
    places = [code for codes_inside in inside.values() for code in codes_inside]
    products = size.every_product
    return {
        "accounts": _write(
            folder,
            "accounts",
            "code,parent,kind,name,currency,time_zone,admin_email",
            (
                (
                    code,
                    parent[code],
                    kind[code],
                    f"{kind[code].capitalize()} {code}",
                    "EUR" if code == "MSP" else None,
                    "Europe/Lisbon" if code == "MSP" else None,
                    f"admin@{code.lower()}.example" if kind[code] != "sub-account" else None,
                )
                for code in codes
            ),
        ),
        "products": _write(
            folder,
            "products",
            "code,name,vendor,measure,unit",
            ((code, code.capitalize(), "Maker", *_measure(code)) for code in products),
        ),
        "lots": _write(folder, "lots", "reference,owner,product,quantity,first_day,last_day,unit_cost", _lots(size)),
        "allocations": _write(
            folder,
            "allocations",
            "account,product,reserve,cap,at_cap,burst,grace_days,first_day,last_day",
            _allocations(chance, size, codes, kind),
        ),
        "people": _write(
            folder,
            "people",
            "account,username,display_name,email,status,last_seen_at,title,department",
            _people(chance, size, places, today),
        ),
        "groups": _write(folder, "groups", "account,code,name,rule,members,precedence", _groups(chance, size)),
        "assignments": _write(
            folder, "assignments", "account,product,subject,from,to", _assignments(size, places, today)
        ),
        "storage": _write(folder, "storage", "account,product,category,at,bytes", _storage(size, places, today)),
        "rates": _write(
            folder,
            "rates",
            "seller,buyer,product,first_day,basis,aggregate,tier_mode,overage_price,currency",
            (
                (seller, None, product, "2026-01-01", "held", "average", "graduated", 9, "EUR")
                for seller in ["MSP", *(f"R{n}" for n in range(size.resellers))]
                for product in products
            ),
        ),
        "rate_tiers": _write(
            folder,
            "rate_tiers",
            "seller,buyer,product,first_day,from_quantity,unit_price",
            (
                (seller, None, product, "2026-01-01", begins, price)
                for seller in ["MSP", *(f"R{n}" for n in range(size.resellers))]
                for product in products
                for begins, price in ((0, 4), (50, 3.5))
            ),
        ),
    }


def _measure(code: str) -> tuple[str, str]:
    if code in STORAGE:
        return "storage", "GB"
    return OTHERS.get(code, "seat"), OTHERS.get(code, "seat")


def _lots(size: Size) -> Iterator[Row]:
    for product in size.every_product:
        quantity = size.people * 3 if product not in STORAGE else min(size.accounts * 5000, 80_000_000)
        yield f"PO-{product}-1", "MSP", product, quantity, "2026-01-01", "2026-12-31", 2.5
        yield f"PO-{product}-2", "MSP", product, quantity // 4, "2026-05-01", "2027-04-30", 2.4
    for n in range(size.resellers):
        for product in SEATS[:4]:
            yield f"PO-R{n}-{product}", f"R{n}", product, size.people * 3 // size.resellers, "2026-01-01", None, 2.9


def _allocations(chance: random.Random, size: Size, codes: list[str], kind: dict[str, str]) -> Iterator[Row]:
    for code in codes:
        if kind[code] in ("operator", "reseller"):
            continue
        for product in size.every_product:
            if kind[code] == "sub-account" and chance.random() > 0.4:
                continue
            cap = 400 if kind[code] == "client" else 120
            reserve = 10 if kind[code] == "client" else 2
            if code == "C0":
                cap = 4000
            if product in STORAGE:
                cap, reserve = cap * 4, reserve * 4
            at_cap = chance.choices(("block", "grace", "overage"), (6, 2, 2))[0]
            # A few caps are below what is in use, so that some clocks run.
            if at_cap != "block" and chance.random() < 0.01:
                cap = 3
                reserve = 0
            raised = cap > 3 and chance.random() < 0.02
            terms = (at_cap, None, 14 if at_cap == "grace" else None)
            yield code, product, reserve, cap, *terms, "2026-03-01", "2026-08-31" if raised else None
            if raised:
                yield code, product, reserve, cap + 20, *terms, "2026-09-01", None


def _people(chance: random.Random, size: Size, places: list[str], today: datetime) -> Iterator[Row]:
    for n in range(size.people):
        place = places[n % len(places)]
        seen = today - timedelta(days=chance.randrange(120), seconds=chance.randrange(86_400))
        yield (
            place,
            f"person.{n}",
            f"Person {n}",
            f"person.{n}@{place.split('-')[0].lower()}.example",
            "active",
            seen.isoformat(),
            chance.choice(TITLES),
            f"D{chance.randrange(40)}",
        )


def _groups(chance: random.Random, size: Size) -> Iterator[Row]:
    for n in range(size.groups):
        client = f"C{n % size.clients}"
        by_rule = n % 2 == 0
        rule = f'title eq "{TITLES[n % 6]}" and department eq "D{n % 40}"' if by_rule else None
        members = None if by_rule else ";".join(f"person.{chance.randrange(size.people)}" for _ in range(5))
        yield ("MSP" if n % 100 == 0 or not by_rule else client), f"G{n}", f"Group {n}", rule, members, n % 900 + 1


def _assignments(size: Size, places: list[str], today: datetime) -> Iterator[Row]:
    chance = random.Random(12)
    for n in range(size.people):
        place = places[n % len(places)]
        for product in chance.sample(size.seats, 2):
            begins = datetime(2026, 3, 1, tzinfo=UTC) + timedelta(minutes=chance.randrange(60 * 24 * 260))
            ended = chance.random() < 0.1
            ends = begins + timedelta(days=chance.randrange(2, 90)) if ended else None
            yield place, product, f"person.{n}", begins.isoformat(), ends.isoformat() if ends and ends < today else None
        if n % 10 < 3:
            product = tuple(OTHERS)[n % 3]
            begins = datetime(2026, 4, 1, tzinfo=UTC) + timedelta(minutes=chance.randrange(60 * 24 * 200))
            yield place, product, f"{product.lower()}-{n}", begins.isoformat(), None


def _storage(size: Size, places: list[str], today: datetime) -> Iterator[Row]:
    chance = random.Random(13)
    for place in places:
        used = chance.randrange(1, 90) * 10**9
        for day in range(size.storage_days):
            at = today - timedelta(days=size.storage_days - day, hours=chance.randrange(12))
            used = max(10**9, used + chance.randrange(-(10**8), 2 * 10**8))
            yield place, STORAGE[0], "files", at.isoformat(), used
