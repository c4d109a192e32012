"""Charges, discounts, credits, tax and exchange rates by hand: checked as an intake is, and never more than one's own."""

from __future__ import annotations

import pytest

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.data_import import terms_admin
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.statements import usecases as statements
from fair_ladle.connectors.sheets_in import read_table
from tests.app.test_closing import JANUARY, books, close, rows  # noqa: F401
from tests.conftest import actor_of

DESK = {"buyer": "TERN", "reference": "DESK", "unit_price": "55", "first_day": "2026-01-01", "every": "month"}


def told(database: Database, seller: str, table: str) -> list[dict[str, str]]:
    return database.snapshot(terms_admin.rows, actor_of(seller), seller, table, "", 0, 100).rows


def test_what_is_changed_by_hand_counts_in_open_months_alone(books: Database) -> None:  # noqa: F811
    close(books, "MSP", "2026-01")
    books.run(terms_admin.put, actor_of("MSP"), "MSP", "charges", DESK)
    books.run(terms_admin.put, actor_of("MSP"), "MSP", "charges", {**DESK, "reference": "PHONE", "unit_price": "7.5"})
    books.run(terms_admin.drop, actor_of("MSP"), "MSP", "discounts", {"buyer": "TERN", "reference": "LOYAL"})
    books.run(
        terms_admin.put,
        actor_of("MSP"),
        "MSP",
        "tax_rates",
        {"tax_class": "standard", "first_day": "2026-02-01", "percent": "10"},
    )
    assert rows(books, "TERN", "2026-01") == JANUARY
    assert rows(books, "TERN", "2026-03") == {
        "usage DISK": "50.00",
        "usage MAIL": "50.00",
        "charge DESK": "55.00",
        "charge PHONE": "7.50",
        "tax 10": "5.00",
    }
    assert [each["reference"] for each in told(books, "MSP", "charges")] == ["DESK", "PHONE"]
    assert told(books, "MSP", "charges")[0]["unit_price"] == "55" and told(books, "NORTH", "charges") == []
    assert books.snapshot(statements.verify, COMMAND_LINE) == []


WRONG = [
    ("charges", {**DESK, "buyer": "QUAY"}, "directly below MSP", "buyer"),
    ("charges", {**DESK, "buyer": "NOBODY"}, "NOBODY is no account", "buyer"),
    ("charges", {**DESK, "unit_price": "-1"}, "expected", "unit_price"),
    ("charges", {**DESK, "last_day": "2025-12-31"}, "not before the first", "last_day"),
    ("discounts", {**DESK, "percent": "101"}, "0 to 100", "percent"),
    ("discounts", {**DESK, "percent": "5", "ceiling": "1.005"}, "at most 2 decimals", "ceiling"),
    ("credits", {**DESK, "amount": "1.005"}, "at most 2 decimals", "amount"),
    ("exchange_rates", {"day": "2026-01-01", "from": "EUR", "to": "EUR", "rate": "1"}, "another currency", "to"),
    ("exchange_rates", {"day": "2026-01-01", "from": "EUR", "to": "USD", "rate": "0"}, "above 0", "rate"),
]


@pytest.mark.parametrize(("table", "cells", "says", "where"), WRONG, ids=[f"{case[0]} {case[3]}" for case in WRONG])
def test_what_is_wrong_is_said_of_its_cell(
    books: Database,  # noqa: F811
    table: str,
    cells: dict[str, str],
    says: str,
    where: str,
) -> None:
    with pytest.raises(Refused, match=says) as refused:
        books.run(terms_admin.put, actor_of("MSP"), "MSP", table, cells)
    assert refused.value.problem.more["where"] == where


def test_each_seller_has_its_own_and_rates_of_exchange_are_the_operators(books: Database) -> None:  # noqa: F811
    north = actor_of("NORTH")
    for act in (terms_admin.put, terms_admin.drop):
        with pytest.raises(Refused, match="There is no account"):
            books.run(act, north, "MSP", "charges", DESK)
    rate = {"day": "2026-01-01", "from": "EUR", "to": "USD", "rate": "1.1"}
    with pytest.raises(Refused, match="only the operator"):
        books.run(terms_admin.put, north, "NORTH", "exchange_rates", rate)
    books.run(terms_admin.put, actor_of("MSP"), "MSP", "exchange_rates", rate)
    assert told(books, "NORTH", "exchange_rates") == [rate]
    assert told(books, "TERN", "exchange_rates") == [], "who sells nothing is told nothing of them"
    own = {**DESK, "buyer": "QUAY", "tax_class": "standard"}
    books.run(terms_admin.put, north, "NORTH", "charges", own)
    books.run(terms_admin.drop, north, "NORTH", "charges", {"buyer": "QUAY", "reference": "DESK"})
    with pytest.raises(Refused, match="charge"):
        books.run(terms_admin.drop, north, "NORTH", "charges", {"buyer": "QUAY", "reference": "DESK"})


def loaded(database: Database, who: str, seller: str, table: str, text: str) -> tuple[tuple[int, int, int], list[str]]:
    """What a file did (created, changed, left), and its faults, each with its row and column."""
    sheet = read_table("rates.csv", text.encode())
    merged, faults = database.run(terms_admin.load, actor_of(who), seller, table, sheet)
    return (merged.created, merged.changed, merged.left), [f"{each.row} {each.column}" for each in faults]


def test_a_file_is_loaded_whole_or_not_at_all(books: Database) -> None:  # noqa: F811
    rates = "day,from,to,rate\n2026-03-01,EUR,USD,1.08\n2026-03-02,EUR,USD,1.09\n"
    assert loaded(books, "MSP", "MSP", "exchange_rates", rates) == ((2, 0, 0), [])
    more = rates.replace("1.09", "1.10") + "2026-03-03,EUR,USD,1.07\n"
    assert loaded(books, "MSP", "MSP", "exchange_rates", more) == ((1, 1, 1), [])
    wrong = more + "2026-03-04,EUR,EUR,1\n2026-03-05,EUR,USD,0\n2026-03-05,EUR,USD,nine\n2026-03-01,EUR,USD,3\n"
    done, faults = loaded(books, "MSP", "MSP", "exchange_rates", wrong)
    assert done == (0, 0, 0) and {"5 to", "6 rate", "7 rate"} <= set(faults) and any(each[0] == "8" for each in faults)
    assert {each["rate"] for each in told(books, "MSP", "exchange_rates")} >= {"1.08", "1.1", "1.07"}
    assert "3" not in {each["rate"] for each in told(books, "MSP", "exchange_rates")}

    charges = "buyer;reference;unit_price;first_day\nTERN;BOX;5;2026-03-01\nQUAY;BOX;5;2026-03-01\n"
    assert loaded(books, "MSP", "MSP", "charges", charges) == ((0, 0, 0), ["3 buyer"]), "of a buyer of its own"
    assert loaded(books, "MSP", "MSP", "charges", charges.split("QUAY")[0]) == ((1, 0, 0), [])
    seller = "seller,buyer,reference,unit_price,first_day\nMSP,QUAY,BOX,5,2026-03-01\n"
    assert loaded(books, "NORTH", "NORTH", "charges", seller)[0] == (0, 0, 0), "no other seller's"
    with pytest.raises(Refused, match="only the operator"):
        loaded(books, "NORTH", "NORTH", "exchange_rates", rates)
    with pytest.raises(Refused, match="There is no account"):
        loaded(books, "NORTH", "MSP", "charges", charges)


def test_any_number_of_terms_is_listed_by_window_and_found_by_words(books: Database) -> None:  # noqa: F811
    msp = actor_of("MSP")
    lines = ["buyer,reference,description,unit_price,first_day,every"]
    lines += [f"TERN,R{n},{'Line rental' if n % 2 else 'Visit 50 %'},{n + 1},2026-01-01,month" for n in range(1_200)]
    file = read_table("charges.csv", "\n".join(lines).encode())
    merged, faults = books.run(terms_admin.load, msp, "MSP", "charges", file)
    assert (merged.created, faults) == (1_200, [])
    there = terms_admin.counts
    total = books.snapshot(there, msp, "MSP")["charges"]
    found = books.snapshot(terms_admin.rows, msp, "MSP", "charges", "tern rental", 100, 50)
    assert (found.total, len(found.rows), found.names) == (600, 50, {"TERN": "Tern"})
    assert books.snapshot(terms_admin.rows, msp, "MSP", "charges", "50 %", 0, 0).total == 600
    assert books.snapshot(terms_admin.rows, msp, "MSP", "charges", "5_ %", 0, 0).total == 0, "no wildcard"
    whole = books.snapshot(lambda tx: list(terms_admin.every(tx, msp, "MSP", "charges", "")))
    assert len(whole) == total == len({(each["buyer"], each["reference"]) for each in whole})
    with pytest.raises(Refused, match="There is a charge TERN R7 already") as refused:
        books.run(terms_admin.put, msp, "MSP", "charges", {**DESK, "reference": "R7"}, True)
    assert refused.value.problem.status == 409


def test_what_a_buyer_is_called_is_not_told_once_it_was_moved_away(books: Database) -> None:  # noqa: F811
    north = actor_of("NORTH")
    books.run(terms_admin.put, north, "NORTH", "charges", {**DESK, "buyer": "QUAY"})

    def found(words: str) -> tuple[int, dict[str, str]]:
        listed = books.snapshot(terms_admin.rows, north, "NORTH", "charges", words, 0, 9)
        return listed.total, listed.names

    with books.transaction() as tx:
        accounts_service.change(tx, accounts_service.ids_by_code(tx)["QUAY"], {"name": "Harbour"})
    assert found("harbour") == (1, {"QUAY": "Harbour"})
    with books.transaction() as tx:
        accounts_service.move(tx, "QUAY", "MSP")
        accounts_service.structure_changed(tx)
    assert found("harbour") == (0, {}) and found("desk") == (1, {})
