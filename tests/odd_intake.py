"""Intakes that are deep and odd, made from a seed: the same seed gives the same files."""

from __future__ import annotations

import csv
import random
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

HEADERS = {
    "accounts": "code,parent,kind,name,currency,time_zone,admin_email,billing_email",
    "products": "code,name,vendor,measure,unit,family,requires,components,successor",
    "lots": "reference,owner,product,quantity,first_day,last_day,unit_cost,currency,true_up,overcommit",
    "allocations": "account,product,reserve,cap,at_cap,burst,grace_days,first_day,last_day",
    "assignments": "account,product,subject,from,to",
    "storage": "account,product,category,at,bytes",
    "rates": "seller,buyer,product,first_day,basis,aggregate,tier_mode,included,overage_price,minimum,fixed_fee,currency",
    "rate_tiers": "seller,buyer,product,first_day,from_quantity,unit_price",
}
BEGIN = date(2026, 2, 20)
DAYS = 75


class Maker:
    """Rows by file, written at the end."""

    def __init__(self, seed: int, accounts: int, shape: str, zone: str):
        self.random = random.Random(seed)
        self.zone = ZoneInfo(zone)
        self.rows: dict[str, list[list[object]]] = {name: [] for name in HEADERS}
        self.codes = [f"A{number:03d}" if number % 7 else f"a-{number:03d}" for number in range(accounts)]
        self.parents: dict[str, str | None] = {self.codes[0]: None}
        for place, code in enumerate(self.codes[1:], start=1):
            above = {
                "chain": self.codes[place - 1],
                "bushy": self.random.choice(self.codes[:place]),
                "wide": self.codes[0]
                if place < accounts // 3
                else self.random.choice(self.codes[: max(1, accounts // 3)]),
            }[shape]
            self.parents[code] = above
        for code in self.codes:
            kind = (
                "operator" if self.parents[code] is None else self.random.choice(["reseller", "client", "sub-account"])
            )
            currency = "EUR" if kind == "operator" else self.random.choice(["", "", "", "JPY"])
            self.rows["accounts"].append(
                [
                    code,
                    self.parents[code] or "",
                    kind,
                    f"Account {code}",
                    currency,
                    zone if kind == "operator" else "",
                    "",
                    "",
                ]
            )

    def day(self, offset: int) -> str:
        return (BEGIN + timedelta(days=offset)).isoformat()

    def instant(self, low: int = -10, high: int = DAYS) -> str:
        at = datetime(BEGIN.year, BEGIN.month, BEGIN.day, tzinfo=UTC) + timedelta(
            seconds=self.random.randrange(low * 86400, high * 86400)
        )
        if self.random.random() < 0.2:
            at = at.replace(hour=0, minute=0, second=0)
        return at.astimezone(self.random.choice([UTC, self.zone])).isoformat()

    def make(self) -> None:
        for measure, code in [
            ("seat", "SEAT"),
            ("device", "DEVICE"),
            ("session", "SESSION"),
            ("item", "ITEM"),
            ("storage", "BYTES"),
            ("storage", "COLD"),
        ]:
            self.rows["products"].append(
                [code, code.title(), "Vendor", measure, "GB" if measure == "storage" else measure, "", "", "", ""]
            )
            owners = [self.codes[0]]
            if self.random.random() < 0.5:
                owners.append(self.random.choice(self.codes[1:]))
            for owner in dict.fromkeys(owners):
                self.pool(owner, code, measure == "storage")
            for account in self.codes:
                if self.random.random() < 0.6:
                    self.allocation(account, code, account in owners)
            self.use(code, measure == "storage")
            self.prices(code)

    def pool(self, owner: str, product: str, storage: bool) -> None:
        for number in range(self.random.randint(1, 3)):
            first = self.random.randint(-40, 30)
            last = self.random.choice(["", self.day(first + self.random.randint(10, 120))])
            quantity = (
                f"{self.random.randint(1, 300)}.{self.random.randint(0, 999):03d}"
                if storage
                else str(self.random.randint(0, 120))
            )
            true_up = self.random.choice(["", "0", "5"])
            overcommit = self.random.choice(["", "150", "80", "100"]) if storage else ""
            cost = self.random.choice(["2.40", "0.041", "19.995", "7"])
            self.rows["lots"].append(
                [
                    f"PO-{product}-{owner}-{number}",
                    owner,
                    product,
                    quantity,
                    self.day(first),
                    last,
                    cost,
                    "EUR",
                    true_up,
                    overcommit,
                ]
            )

    def allocation(self, code: str, product: str, owns: bool) -> None:
        begin = self.random.randint(-30, 20)
        for _ in range(self.random.randint(1, 3)):
            length = self.random.randint(1, 40)
            reserve = 0 if owns else self.random.choice([0, 0, self.random.randint(0, 15)])
            cap = self.random.choice(
                [
                    "",
                    reserve + self.random.randint(0, 20),
                    self.random.choice([reserve, 0]) if reserve == 0 else reserve,
                ]
            )
            at_cap = self.random.choice(["block", "grace", "grace", "overage"])
            burst = self.random.choice(["", "0", "3"]) if at_cap != "block" else ""
            grace = self.random.choice([0, 3, 14]) if at_cap == "grace" else ""
            last = self.random.choice(["open", "closed", "closed"])
            self.rows["allocations"].append(
                [
                    code,
                    product,
                    reserve,
                    cap,
                    at_cap,
                    burst,
                    grace,
                    self.day(begin),
                    "" if last == "open" else self.day(begin + length),
                ]
            )
            if last == "open":
                return
            begin += length + 1 + self.random.choice([0, 0, 5])

    def use(self, product: str, storage: bool) -> None:
        for code in self.codes:
            if self.random.random() < 0.4:
                continue
            if storage:
                seen = set()
                for category in self.random.sample(["mail", "files", "media"], self.random.randint(1, 3)):
                    for _ in range(self.random.randint(1, 12)):
                        at = self.instant()
                        seen.add((category, at))
                        self.rows["storage"].append([code, product, category, at, self.random.randint(0, 9 * 10**9)])
                if seen and self.random.random() < 0.3:
                    category, at = self.random.choice(sorted(seen))
                    self.rows["storage"].append([code, product, category, at, 123456789])
            else:
                for number in range(self.random.randint(0, 6)):
                    begins = self.instant()
                    ends = self.random.choice(["", self.instant()])
                    if ends and datetime.fromisoformat(ends) < datetime.fromisoformat(begins):
                        begins, ends = ends, begins
                    self.rows["assignments"].append([code, product, f"{code}-{number}", begins, ends])

    def prices(self, product: str) -> None:
        sellers = {parent for parent in self.parents.values() if parent}
        for seller in sorted(sellers):
            if self.random.random() < 0.4:
                continue
            buyers = [""] + [code for code, parent in self.parents.items() if parent == seller][:1]
            for buyer in buyers[: self.random.randint(1, 2)]:
                for first in self.random.sample([-60, -20, 9], self.random.randint(1, 2)):
                    day = self.day(first)
                    self.rows["rates"].append(
                        [
                            seller,
                            buyer,
                            product,
                            day,
                            self.random.choice(["used", "held", "reserved"]),
                            self.random.choice(["average", "peak", "p95"]),
                            self.random.choice(["graduated", "volume"]),
                            self.random.choice(["", "1", "2.5"]),
                            self.random.choice(["", "4.9", "0.11"]),
                            self.random.choice(["", "", "12"]),
                            self.random.choice(["", "", "15.005"]),
                            self.random.choice(["", "EUR"]),
                        ]
                    )
                    for start in [0, *sorted(self.random.sample([1, 2, 5, 10], self.random.randint(0, 2)))]:
                        self.rows["rate_tiers"].append(
                            [seller, buyer, product, day, start, self.random.choice(["3.9", "0.0175", "22.4", "1"])]
                        )

    def write(self, folder: Path) -> Path:
        folder.mkdir(parents=True, exist_ok=True)
        for name, rows in self.rows.items():
            with (folder / f"{name}.csv").open("w", newline="", encoding="utf-8") as file:
                writer = csv.writer(file)
                writer.writerow(HEADERS[name].split(","))
                writer.writerows(rows)
        return folder


def write(folder: Path, seed: int, accounts: int = 40, shape: str = "bushy", zone: str = "Europe/Lisbon") -> Path:
    """An odd intake in a folder; its days span a change to summer time."""
    maker = Maker(seed, accounts, shape, zone)
    maker.make()
    return maker.write(folder)
