"""Intakes that are deep and odd, made from a seed: the same seed gives the same files."""

from __future__ import annotations

import csv
import random
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

HEADERS = {
    "accounts": "code,parent,kind,name,currency,time_zone,admin_email,billing_email,tax",
    "products": "code,name,vendor,measure,unit,family,requires,components,successor,tax_class,idle",
    "lots": "reference,owner,product,quantity,first_day,last_day,unit_cost,currency,true_up,overcommit",
    "allocations": "account,product,reserve,cap,at_cap,burst,grace_days,first_day,last_day,per,each",
    "assignments": "account,product,subject,from,to",
    "storage": "account,product,category,at,bytes",
    "rates": "seller,buyer,product,first_day,basis,aggregate,tier_mode,included,overage_price,minimum,fixed_fee,currency,"
    "committed,fees,markup",
    "rate_tiers": "seller,buyer,product,first_day,from_quantity,unit_price",
    "charges": "seller,buyer,reference,description,tax_class,quantity,unit_price,currency,first_day,last_day,every,fees",
    "discounts": "seller,buyer,reference,product,percent,first_day,last_day,ceiling,currency",
    "credits": "seller,buyer,reference,amount,currency,first_day,last_day",
    "tax_rates": "seller,tax_class,first_day,percent",
    "exchange_rates": "day,from,to,rate",
}
BEGIN = date(2026, 2, 20)
DAYS = 75


class Maker:
    """Rows by file, written at the end."""

    def __init__(self, seed: int, accounts: int, shape: str, zone: str):
        self.random, self.beside = random.Random(seed), random.Random(f"beside {seed}")
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
                    self.beside.choice(["", "normal", "normal", "reverse_charge", "exempt"]),
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
                [
                    *(code, code.title(), "Vendor", measure, "GB" if measure == "storage" else measure, "", "", "", ""),
                    *(self.beside.choice(["", "standard", "reduced"]), self.beside.choice(["", "retained", "spread"])),
                ]
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
        self.beside_rates()

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
                    self.beside.choice(["EUR", "EUR", "USD", ""]),
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
                    *self.follows(product, reserve, cap),
                ]
            )
            if last == "open":
                return
            begin += length + 1 + self.random.choice([0, 0, 5])

    def follows(self, product: str, reserve: int, cap: object) -> list[object]:
        """Whose seats the cap follows, and how much each brings."""
        if product not in ("BYTES", "COLD") or (cap == "" and reserve) or self.beside.random() < 0.5:
            return ["", ""]
        return [self.beside.choice(["SEAT", "DEVICE"]), self.beside.choice(["0", "0.75", "2", "5.125"])]

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
                    markup = self.beside.choice(["", "", "", "12.5", "0"])
                    basis = self.random.choice(["used", "held", "reserved"])
                    aggregate = self.random.choice(["average", "peak", "p95"])
                    mode = self.random.choice(["graduated", "volume"])
                    included = self.random.choice(["", "1", "2.5"])
                    self.rows["rates"].append(
                        [
                            seller,
                            buyer,
                            product,
                            day,
                            basis,
                            aggregate,
                            "" if markup else mode,
                            "" if markup else included,
                            self.random.choice(["", "4.9", "0.11"]),
                            self.random.choice(["", "", "12"]),
                            self.random.choice(["", "", "15.005"]),
                            self.random.choice(["", "EUR"]),
                            self.beside.choice(["", "", "3", "8.5"]) if not markup else "",
                            self.beside.choice(["", "whole", "by_day"]),
                            markup,
                        ]
                    )
                    tiers = [
                        [seller, buyer, product, day, start, self.random.choice(["3.9", "0.0175", "22.4", "1"])]
                        for start in [0, *sorted(self.random.sample([1, 2, 5, 10], self.random.randint(0, 2)))]
                    ]
                    self.rows["rate_tiers"].extend([] if markup else tiers)

    def beside_rates(self) -> None:
        """Charges, discounts, credits, tax and exchange rates."""
        chance = self.beside
        for seller in sorted({parent for parent in self.parents.values() if parent}):
            for tax_class, percent in (("standard", "23"), ("standard", "21.5"), ("reduced", "6"), ("none", "0")):
                if chance.random() < 0.8:
                    self.rows["tax_rates"].append([seller, tax_class, self.day(chance.randint(-60, 60)), percent])
        taken = set()
        self.rows["tax_rates"] = [
            row
            for row in self.rows["tax_rates"]
            if not (tuple(row[:3]) in taken or taken.add(tuple(row[:3])))  # type: ignore[func-returns-value]
        ]
        for buyer, seller in self.parents.items():
            if seller is None or chance.random() < 0.3:
                continue
            for number in range(chance.randint(0, 3)):
                first = chance.randint(-40, 40)
                last = chance.choice(["", self.day(first + chance.randint(0, 50))])
                what = [seller, buyer, f"C-{number}", "Set-up", chance.choice(["", "standard", "none"])]
                price = chance.choice(["10", "0.335", "99.99", "0"])
                how = [
                    chance.choice(["", "2", "0.5"]),
                    price,
                    chance.choice(["", "", "EUR", "USD"]),
                    self.day(first),
                    last,
                ]
                self.rows["charges"].append(
                    [*what, *how, chance.choice(["", "once", "month", "month"]), chance.choice(["", "by_day"])]
                )
            for number in range(chance.randint(0, 3)):
                first = chance.randint(-60, 30)
                last = chance.choice(["", self.day(first + chance.randint(5, 70))])
                product = chance.choice(["", "", "SEAT", "BYTES"])
                how = [chance.choice(["10", "33.333", "100"]), self.day(first), last]
                limits = [chance.choice(["", "", "5", "40"]), chance.choice(["", "", "EUR"])]
                self.rows["discounts"].append([seller, buyer, f"D-{number}", product, *how, *limits])
            for number in range(chance.randint(0, 2)):
                first = chance.randint(-60, 30)
                last = chance.choice(["", self.day(first + chance.randint(5, 70))])
                amount = chance.choice(["0", "7", "50", "1000"])
                currency = chance.choice(["", "", "EUR"])
                self.rows["credits"].append([seller, buyer, f"G-{number}", amount, currency, self.day(first), last])
        for of, into, rate in (("EUR", "USD", "1.0825"), ("USD", "EUR", "0.93"), ("EUR", "JPY", "161.37")):
            for first in sorted(chance.sample(range(-70, 60), 4)):
                self.rows["exchange_rates"].append([self.day(first), of, into, rate])
        self.rows["exchange_rates"].append([self.day(-200), "USD", "JPY", "149.5"])

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
