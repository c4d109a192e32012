"""A vendor's invoice against what was bought: every difference with its line, and what has no line."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest

from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.purchases import invoices
from fair_ladle.connectors.sheets_in import read_table
from tests.app.test_closing import INTAKE, bring_in
from tests.conftest import actor_of

LOTS = """reference,owner,product,quantity,first_day,last_day,unit_cost
PO-1,MSP,MAIL,100,2026-01-01,,2
PO-2,MSP,DISK,500,2026-01-01,,0.1
PO-3,MSP,MAIL,31,2026-01-17,2026-12-31,2
PO-4,MSP,MAIL,10,2026-02-01,,2
PO-5,MSP,DISK,100,2026-01-01,,0.1
"""
INVOICE = """Order;Item;Qty;Net;Currency
PO-1;Mail;100;200,00;EUR
po-2;Disk;510;51,00;EUR
PO-3;Mail;31;62,00;EUR
PO-3;Mail;31;30,00;EUR
PO-4;Mail;10;20,00;EUR
;Disk;1;1,00;EUR
PO-1;Mail;many;1,00;EUR
"""


def test_every_difference_is_told_with_its_line(database: Database, tmp_path: Path) -> None:
    bring_in(database, tmp_path / "intake", {**INTAKE, "lots": LOTS})
    found = database.snapshot(
        invoices.hold, actor_of("MSP"), "MSP", "2026-01", "", read_table("january.csv", INVOICE.encode()), {}
    )
    assert [(each.row, each.state, each.says) for each in found.lines] == [
        (2, "fits", ""),
        (3, "differs", "510 invoiced, 500 bought; 1.00 EUR more."),
        (4, "differs", "32.00 EUR more."),
        (5, "twice", "Another line is for PO-3."),
        (6, "unknown", "No lot of this month fits it."),
        (7, "unknown", "It fits several lots: PO-2, PO-5."),
        (8, "fault", "many is no quantity."),
        (None, "missing", "No line of the invoice is for this lot."),
    ]
    assert (found.lines[2].expected, found.lines[-1].lot) == (Decimal("30.00"), "PO-5"), "15 of 31 days"
    other = read_table("other.csv", b"a,b\n1,2\n")
    assert database.snapshot(invoices.hold, actor_of("MSP"), "MSP", "2026-01", "", other, {}).lines == []
    with pytest.raises(Refused, match="There is no account"):
        database.snapshot(invoices.hold, actor_of("TERN"), "MSP", "2026-01", "", other, {})
