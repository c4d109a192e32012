"""Bringing people in from a table: received whole, looked at whole, then done part by part, each part in a transaction
of its own. What is done stays done; a run that was stopped or broke off goes on where it was."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from datetime import date
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people_import import store
from fair_ladle.app.people_import.carrying_out import LEFT, carry_out, into_groups
from fair_ladle.app.people_import.planning import (
    FIELDS,
    Conflict,
    ImportChoices,
    ImportPlan,
    Needed,
    Step,
    conflicts,
    guess,
    plan,
    seats_needed,
)
from fair_ladle.app.people_import.rows import ImportRecord
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid, not_found
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.connectors.sheets_in import SheetTable, Unreadable, read_table

MOST_ROWS = 100_000
MOST_COLUMNS = 60
MOST_CELL = 2000
AT_ONCE = 1000
MOST_STEPS = 200
"""So many rows are told one by one before anything is done."""


def receive(tx: Transaction, actor: Actor, name: str, content: bytes) -> int:
    """Keep a table that people are to be brought in from; its number. Nothing is done with it yet."""
    if actor.sign_in_id is None:
        raise invalid("Sign in to import people.")
    try:
        table = read_table(name, content)
        rows = _rows(name, table)
    except Unreadable as trouble:
        fault = trouble.faults[0]
        where = ", ".join(
            filter(None, [f"row {fault.row}" if fault.row else "", f"column {fault.column}" if fault.column else ""])
        )
        raise invalid(
            f"{name}{f', {where}' if where else ''}: {fault.found}; expected {fault.expected}.", "file"
        ) from None
    how = ImportChoices(guess(table.header))
    return store.add(
        tx.connection,
        {
            "sign_in_id": actor.sign_in_id,
            "through": actor.scope or "",
            "by": actor.name,
            "name": name[:200],
            "at": tx.now,
            "header": table.header,
            "cells": store.packed(rows),
            "count": len(rows),
            "how": asdict(how),
            "state": "open",
        },
    )


def _rows(name: str, table: SheetTable) -> list[tuple[int, list[str]]]:
    if len(table.header) > MOST_COLUMNS:
        raise invalid(f"{name} has {len(table.header)} columns; {MOST_COLUMNS} at most.", "file")
    rows: list[tuple[int, list[str]]] = []
    for number, cells in table.rows:
        if any(cell.strip() for cell in cells):
            if len(rows) == MOST_ROWS:
                raise invalid(f"{name} has more than {MOST_ROWS} rows; bring it in in parts.", "file")
            if max(map(len, cells)) > MOST_CELL:
                raise invalid(f"{name}, row {number}: a cell with more than {MOST_CELL} characters.", "file")
            rows.append((number, cells))
    if not rows:
        raise invalid(f"{name} has a header and no row under it.", "file")
    return rows


@dataclass(frozen=True)
class ImportPreview:
    """A table as it came, and what it comes to as things are mapped now."""

    row: ImportRecord
    how: ImportChoices
    sample: list[tuple[int, list[str]]]
    plan: ImportPlan
    seats: list[Needed]
    conflicts: list[Conflict]
    account_names: dict[str, str]
    """Of the accounts that the first steps are about, by code."""


def how_of(row: ImportRecord) -> ImportChoices:
    """What is kept of an import as its mapping and choices."""
    given = dict(row.how)
    return ImportChoices(
        **{
            **given,
            "groups": tuple(given["groups"]),
            "products": tuple(given["products"]),
            "leave_out": tuple(given["leave_out"]),
        }
    )


def _mine(tx: Transaction, actor: Actor, import_id: int, lock: bool = False) -> Any:
    row = store.one(tx.connection, import_id, lock)
    if row is None or row.sign_in_id != actor.sign_in_id or row.through != (actor.scope or ""):
        raise not_found("import", str(import_id))
    return row


def _open(tx: Transaction, actor: Actor, import_id: int) -> Any:
    row = _mine(tx, actor, import_id, lock=True)
    if row.state != "open":
        raise conflict(f"{row.name} has been begun; how it is read stays as it was then.")
    return row


def imports(tx: Transaction, actor: Actor) -> list[Any]:
    """One's own imports, the newest first."""
    return store.of(tx.connection, actor.sign_in_id or 0, actor.scope or "")


def one(tx: Transaction, actor: Actor, import_id: int) -> Any:
    """An import and how far it is."""
    return _mine(tx, actor, import_id)


def preview(tx: Transaction, actor: Actor, import_id: int, how: ImportChoices | None = None) -> ImportPreview:
    """What an import comes to, every fault with its place; ``how``, if given, is kept."""
    row = _open(tx, actor, import_id) if how is not None else _mine(tx, actor, import_id)
    if row.cells is None:
        raise conflict(f"{row.name} has been imported already.")
    chosen = how_of(row) if how is None else how
    for name, place in chosen.columns.items():
        if name not in FIELDS or not 0 <= place < len(row.header):
            raise invalid(f"There is no column {place} to be {name}.", "columns")
    rows = [(number, cells) for number, cells in store.unpacked(row.cells)]
    made = plan(tx, actor, row.header, rows, chosen)
    if how is not None:
        store.change(tx.connection, import_id, {"how": asdict(how)})
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    names = {each.account: accounts.full_name(accounts.tree.row(each.account), top) for each in made.steps[:MOST_STEPS]}
    return ImportPreview(row, chosen, rows[:5], made, seats_needed(tx, actor, made), conflicts(tx, made), names)


def begin(tx: Transaction, actor: Actor, import_id: int, on: date | None = None) -> None:
    """Start bringing people in. Refused while there are faults, unless rows at fault are to be left out.

    ``on``: for leavers, the day ahead on which it begins by itself; who is not there any more by then is reported.
    """
    _open(tx, actor, import_id)
    previewed = preview(tx, actor, import_id)
    if on is not None:
        if not previewed.how.leaving:
            raise invalid("Only people who leave can be imported on a later day.", "on")
        if on < accounts_service.today(tx):
            raise invalid("Enter today or a later day.", "on")
    planned = on is not None and on > accounts_service.today(tx)
    counts = previewed.plan.counts()
    if counts["fault"] and not previewed.how.leave_faults:
        raise conflict(
            f"{counts['fault']} {'row has' if counts['fault'] == 1 else 'rows have'} faults; "
            "mend them, or choose to leave them out."
        )
    if not previewed.plan.steps:
        raise conflict("There is no row left to do anything with.")
    order = accounts_service.known(tx).tree
    steps = sorted(previewed.plan.steps, key=lambda step: (int(order.depth_first[order.row(step.account)]), step.row))
    store.put_parts(
        tx.connection,
        import_id,
        [[asdict(step) for step in steps[start : start + AT_ONCE]] for start in range(0, len(steps), AT_ONCE)],
    )
    store.change(
        tx.connection,
        import_id,
        {
            "state": "planned" if planned else "running",
            "on_day": on if planned else None,
            "total": len(steps),
            "trouble": None,
        },
    )
    after: dict[str, Any] = {"rows": len(steps)}
    if planned:
        after["on"] = on.isoformat() if on else None
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "import planned" if planned else "import begun",
                previewed.row.name,
                _account_id(tx, actor),
                None,
                after,
            )
        ],
    )


def _account_id(tx: Transaction, actor: Actor) -> int:
    accounts = accounts_service.known(tx)
    return int(accounts.ids[accounts_service.top_row(accounts, actor)])


def cancel(tx: Transaction, actor: Actor, import_id: int) -> None:
    """Stop after the part under way; who is in stays in. One that is planned is open again."""
    row = _mine(tx, actor, import_id, lock=True)
    if row.state == "planned":
        store.drop_parts(tx.connection, import_id)
        store.change(tx.connection, import_id, {"state": "open", "on_day": None, "total": 0})
        return
    if row.state != "running":
        raise conflict(f"{row.name} is not under way.")
    store.change(tx.connection, import_id, {"state": "cancelled"})


def resume(tx: Transaction, actor: Actor, import_id: int) -> None:
    """Go on where it was stopped or broke off."""
    row = _mine(tx, actor, import_id, lock=True)
    if row.state not in ("cancelled", "broken"):
        raise conflict(f"{row.name} is {row.state}; only what was cancelled or broke off goes on.")
    store.change(tx.connection, import_id, {"state": "running", "trouble": None})


def reverse(tx: Transaction, actor: Actor, import_id: int) -> int:
    """Bring back those whom an import of leavers suspended or removed, with the products they had; the number of the
    import that does so. Locks: the import, so that it is reversed once."""
    row = _mine(tx, actor, import_id, lock=True)
    if row.state in ("planned", "running"):
        raise conflict(f"{row.name} is {row.state}; stop it first.")
    if row.reversed_by is not None:
        raise conflict(f"{row.name} is reversed already.")
    accounts = accounts_service.known(tx)
    left = [each for each in store.outcomes(tx.connection, import_id) if each[2] in LEFT.values()]
    known = people_service.by_username(tx, [each[1] for each in left])
    steps = [
        Step(
            each[0],
            "update",
            accounts.tree.codes[accounts.row_of_id[known[each[1]].account_id]],
            each[1],
            {},
            None,
            [],
            each[5],
            back=True,
        )
        for each in left
        if each[1] in known
    ]
    if not steps:
        raise conflict("Nobody left by it.")
    new = store.add(
        tx.connection,
        {
            "sign_in_id": actor.sign_in_id,
            "through": actor.scope or "",
            "by": actor.name,
            "name": f"Reverse: {row.name}"[:200],
            "at": tx.now,
            "header": [],
            "cells": None,
            "count": len(steps),
            "how": asdict(ImportChoices()),
            "state": "running",
            "total": len(steps),
        },
    )
    store.put_parts(
        tx.connection,
        new,
        [[asdict(step) for step in steps[start : start + AT_ONCE]] for start in range(0, len(steps), AT_ONCE)],
    )
    store.change(tx.connection, import_id, {"reversed_by": new})
    log_service.write(
        tx,
        actor,
        None,
        [log_service.Entry("import reversed", row.name, _account_id(tx, actor), None, {"rows": len(left)})],
    )
    return new


def forget(tx: Transaction, actor: Actor, import_id: int) -> None:
    """Put an import away that is not under way; who came by it stays."""
    if _mine(tx, actor, import_id, lock=True).state in ("planned", "running"):
        raise conflict("Cancel it first.")
    store.forget(tx.connection, import_id)


def outcomes(tx: Transaction, actor: Actor, import_id: int) -> list[Any]:
    """Row by row (row number, username, what was done, why not all of it), as far as it is done."""
    _mine(tx, actor, import_id)
    return store.outcomes(tx.connection, import_id)


def work(database: Database, import_id: int, going_on: Callable[[], bool] = lambda: True) -> None:
    """Import part after part, until all is done, it is cancelled, it breaks off, or the server is told to stop; another
    server at it is left alone."""
    try:
        while going_on() and database.run(_next_part, import_id):
            pass
    except Refused as refused:
        database.run(_break_off, import_id, refused.problem.detail)
    except Exception as broken:
        database.run(_break_off, import_id, f"{type(broken).__name__}; nothing of this part was done.")
        raise


def _break_off(tx: Transaction, import_id: int, trouble: str) -> None:
    store.change(tx.connection, import_id, {"state": "broken", "trouble": trouble})


def _next_part(tx: Transaction, import_id: int) -> bool:
    row = store.claim(tx.connection, import_id)
    if row is None or row.state != "running":
        return False
    actor = sign_in_service.actor_for(tx, row.sign_in_id, row.through)
    if actor is None:
        raise conflict(f"{row.by} no longer runs this branch.")
    part = store.next_part(tx.connection, import_id)
    if part is None:
        trouble = into_groups(tx, actor, store.outcomes(tx.connection, import_id))
        store.change(tx.connection, import_id, {"state": "done", "cells": None, "trouble": trouble})
        return False
    steps = [Step(**each) for each in store.unpacked(part.steps)]
    store.note_outcome(tx.connection, import_id, part.number, carry_out(tx, actor, row, steps))
    store.change(tx.connection, import_id, {"done": row.done + len(steps)})
    return True
