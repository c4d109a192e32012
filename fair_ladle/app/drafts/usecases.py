"""Drafts: kept on the server, looked at as a whole, applied as a whole, now or on a day, and reversed.

A draft belongs to who made it, in the branch they ran; it can be shared with colleagues. What it may do is
decided by whoever looks at it or applies it, never by who shared it.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.drafts import store, wording
from fair_ladle.app.drafts.change_types import (
    Change,
    PersonLimit,
    UnitsChange,
    adapter,
)
from fair_ladle.app.drafts.impact import Impact, refusal, stopping_in_sight
from fair_ladle.app.drafts.preview import apply_changes, preview
from fair_ladle.app.drafts.reversing import reversed_changes
from fair_ladle.app.drafts.rows import DraftRecord
from fair_ladle.app.log import service as log_service
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.notices.service import Notice
from fair_ladle.app.people import service as people
from fair_ladle.app.people.groups import Groups
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.permissions import PERMISSIONS
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid, not_allowed, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.core.calendar import day_name

MOST_CHANGES = 5000
MOST_NAMED = 1000
"""So many people of a draft have their names beside it; of others their usernames are shown."""
EDITABLE = ("open", "held")
WAITING = ("scheduled", "held", "asked")


@dataclass(frozen=True)
class Draft:
    """A draft with what it holds; ``row`` has its own facts (state, revision, apply_on, owner, …)."""

    row: DraftRecord
    changes: list[Change]
    shared_with: list[Any]
    people: dict[str, str]
    """What those are called to whom units are given or from whom they are taken, by username."""


def current(tx: Transaction, actor: Actor) -> Draft | None:
    """The draft the actor has open in the branch; None where there is none."""
    row = store.open_of(tx.connection, _person(actor), _through(tx, actor))
    return None if row is None else _whole(tx, row)


def seen(tx: Transaction, actor: Actor) -> list[Any]:
    """The actor's drafts of the branch and those shared with the actor, newest first."""
    return store.seen_by(tx.connection, _person(actor), _through(tx, actor), 100)


def get(tx: Transaction, actor: Actor, draft_id: int) -> Draft:
    """One draft, for its owner and whom it is shared with."""
    return _whole(tx, _mine(tx, actor, draft_id))


def edit(
    tx: Transaction,
    actor: Actor,
    draft_id: int | None,
    revision: int,
    put: Sequence[Change],
    forget: Collection[tuple[str, str]] = (),
    name: str | None = None,
) -> Draft:
    """Take changes into a draft and others out of it; with no draft named, into the actor's open one, made if need be.

    Refused where somebody else edited it since ``revision``: nothing of it is lost, look again.
    """
    _may(actor, put)
    if draft_id is None:
        store.lock_person(tx.connection, _person(actor))
        there = store.open_of(tx.connection, _person(actor), _through(tx, actor))
        found = _begin(tx, actor, name) if there is None else _mine(tx, actor, there.id, lock=True)
        revision = found.revision if there is None else revision
    else:
        found = _mine(tx, actor, draft_id, lock=True)
    if found.state not in EDITABLE:
        raise conflict(f"This draft is {found.state}; it cannot be changed any more.")
    if found.revision != revision:
        raise conflict("Someone else edited this draft meanwhile. Review it again.", revision=found.revision)
    store.put(
        tx.connection,
        found.id,
        [{"kind": each.kind, "key": each.key, "body": each.model_dump(mode="json")} for each in put],
        forget,
    )
    values: dict[str, Any] = {"revision": found.revision + 1, "changed_at": tx.now, "state": "open", "reason": None}
    if name is not None:
        values["name"] = name.strip() or found.name
    store.update(tx.connection, found.id, values)
    whole = get(tx, actor, found.id)
    if len(whole.changes) > MOST_CHANGES:
        raise invalid(f"A draft holds at most {MOST_CHANGES} changes; apply this one first.", "changes")
    return whole


def apply(tx: Transaction, actor: Actor, draft_id: int, revision: int, note: str = "") -> Impact:
    """Apply a draft from today on, all of it or nothing; ``note`` goes to those who are notified.

    Under the locks of the pools' counters it is checked again. Refused where it would make a new or worse hard
    breach, or where an allocation it touches is no longer the one it was made on.
    """
    found = _mine(tx, actor, draft_id, lock=True)
    if found.state not in ("open", *WAITING):
        raise conflict(f"This draft is {found.state} already.")
    if found.revision != revision:
        raise conflict("Someone else edited this draft meanwhile. Review it again.", revision=found.revision)
    changes = [adapter.validate_python(body) for body in store.changes(tx.connection, draft_id)]
    _may(actor, changes)
    impact, before = apply_changes(tx, actor, changes, f"draft {draft_id}")
    store.put(
        tx.connection,
        draft_id,
        [{"kind": b.change.kind, "key": b.change.key, "body": b.change.model_dump(mode="json")} for b in before],
        [],
    )
    store.update(
        tx.connection,
        draft_id,
        {
            "state": "applied",
            "applied_at": tx.now,
            "changed_at": tx.now,
            "reason": None,
            **_own_name(tx, found, changes),
        },
    )
    _notify(tx, actor, draft_id, impact, [each.change for each in before], note.strip())
    return impact


def _notify(
    tx: Transaction, actor: Actor, draft_id: int, impact: Impact, changes: Sequence[Change], note: str = ""
) -> None:
    """One notice for every account that the draft changed, with what of it and the sender's note, to its admins and
    those of the account above."""
    accounts = accounts_service.known(tx)
    products = {each.code: each for each in impact.after.snapshot.products}
    groups = {
        (accounts.tree.codes[accounts.row_of_id[each.account_id]], each.code): each.name
        for each in (Groups.read(tx, accounts).every if any(isinstance(each, PersonLimit) for each in changes) else ())
    }
    due = [
        Notice(
            f"draft {draft_id} {code}",
            "change",
            int(accounts.ids[accounts.tree.row(code)]),
            f"{accounts.name(accounts.tree.row(code))}: allocations changed by {actor.name}",
            "\n".join([*lines, *([f"Note from {actor.name}: {note}"] if note else [])]),
        )
        for code, lines in wording.lines_by_account(changes, products, groups).items()
    ]
    notices_service.notify(tx, accounts, due, but_not=actor.email)


def _own_name(tx: Transaction, row: DraftRecord, changes: Sequence[Change]) -> dict[str, str]:
    """A name by what the draft does, in place of one nobody gave."""
    if not changes or not row.name.startswith(wording.DEFAULT_NAME):
        return {}
    products = {each.code: each for each in pools_service.products(tx)}
    return {"name": wording.name_of(changes, accounts_service.known(tx), products)}


def schedule(tx: Transaction, actor: Actor, draft_id: int, revision: int, day: date) -> Draft:
    """Let a draft be applied on a day ahead. It has to be sound now, as that day is known."""
    found = _mine(tx, actor, draft_id, lock=True)
    if found.state not in EDITABLE:
        raise conflict(f"This draft is {found.state}; open it again first.")
    if found.revision != revision:
        raise conflict("Someone else edited this draft meanwhile. Review it again.", revision=found.revision)
    today = accounts_service.today(tx)
    if day <= today:
        raise invalid(
            f"A draft can be applied now or from {day_name(today + timedelta(days=1))} on; "
            f"{day_name(day)} is not ahead.",
            "day",
        )
    whole = _whole(tx, found)
    _may(actor, whole.changes)
    previewed = preview(tx, actor, whole.changes, day)
    if previewed.impact is None or previewed.faults:
        raise invalid(previewed.faults[0].detail if previewed.faults else "The draft holds nothing.", "changes")
    if previewed.above is not None:
        raise Refused(previewed.above)
    if stopping_in_sight(previewed.impact, actor):
        refused = refusal(previewed.impact, actor)
        raise conflict(f"On {day_name(day)} it cannot be: {refused}")
    called = _own_name(tx, found, whole.changes).get("name", found.name)
    done = {"state": "scheduled", "apply_on": day, "changed_at": tx.now, "reason": None, "name": called}
    store.update(tx.connection, draft_id, done)
    log_service.write(
        tx,
        actor,
        found.through_id,
        [log_service.Entry("draft scheduled", called, found.through_id, None, {"on": day.isoformat()})],
    )
    return get(tx, actor, draft_id)


def ask(tx: Transaction, actor: Actor, draft_id: int, revision: int, reason: str) -> Draft:
    """Have those apply a draft who run the branch with no limits of their own, or else those of the nearest account
    above; they are told. Until they do, its owner can take it back."""
    found = _mine(tx, actor, draft_id, lock=True)
    if found.owner_id != actor.sign_in_id:
        raise not_allowed(f"This draft is {found.owner_name}'s to ask for.")
    if found.state not in EDITABLE:
        raise conflict(f"This draft is {found.state}; open it again first.")
    if found.revision != revision:
        raise conflict("Someone else edited this draft meanwhile. Review it again.", revision=found.revision)
    if not store.changes(tx.connection, draft_id):
        raise invalid("The draft holds nothing.", "changes")
    if not reason.strip():
        raise invalid("Give a reason for whoever decides.", "reason")
    accounts = accounts_service.known(tx)
    above, asked = _who_decides(tx, actor, accounts, found.through)
    for each in asked:
        store.share(tx.connection, draft_id, each.sign_in_id, asked=True)
    store.update(tx.connection, draft_id, {"state": "asked", "reason": reason.strip()[:1000], "changed_at": tx.now})
    row = accounts.tree.row(found.through)
    account_id = int(accounts.ids[row])
    log_service.write(
        tx, actor, account_id, [log_service.Entry("draft asked", found.name, account_id, None, {"reason": reason})]
    )
    subject = f"{accounts.name(row)}: {actor.name} asks you to apply “{found.name}”"
    key = f"draft {draft_id} asked {tx.now.isoformat()}"
    told = Notice(key, "change", int(accounts.ids[above]), subject, reason.strip()[:1000], parent_too=False)
    notices_service.notify(tx, accounts, [told], but_not=actor.email)
    return get(tx, actor, draft_id)


def _who_decides(
    tx: Transaction, actor: Actor, accounts: accounts_service.Accounts, through: str
) -> tuple[int, list[Any]]:
    """The account (its row), and who runs it free of limits: that in which a draft was made, or the nearest above;
    refused where nobody does."""
    for row in accounts.tree.path_up(accounts.tree.row(through)):
        account_id = int(accounts.ids[row])
        free = sign_in_service.free_admins_of(tx, account_id)
        found = [each for each in free if each.sign_in_id != actor.sign_in_id]
        if found:
            return row, found
    raise conflict("No admin of this account or its parent can decide.")


def ask_for(tx: Transaction, actor: Actor, name: str, changes: Sequence[Change], reason: str) -> Draft:
    """Have others do what is above a ceiling of the actor's: as a draft beside their open one."""
    _may(actor, changes)
    draft_id = _begin(tx, actor, name, state="held").id
    rows = [{"kind": each.kind, "key": each.key, "body": each.model_dump(mode="json")} for each in changes]
    store.put(tx.connection, draft_id, rows, ())
    return ask(tx, actor, draft_id, 0, reason)


def decline(tx: Transaction, actor: Actor, draft_id: int, reason: str) -> Draft:
    """Say no to a draft one was asked to apply, with a reason; its owner is told, and has it back."""
    found = _mine(tx, actor, draft_id, lock=True)
    if found.state != "asked":
        raise conflict(f"This draft is {found.state}; it is not waiting for an answer.")
    if found.owner_id == actor.sign_in_id:
        raise not_allowed("Take your own draft back instead.")
    if not reason.strip():
        raise invalid("Give a reason for the person who asked.", "reason")
    accounts = accounts_service.known(tx)
    row = accounts.tree.row(found.through)
    by = actor.name if actor.scope == found.through else accounts.name(int(accounts.tree.parent[row]))
    said = f"{by}: {reason.strip()[:1000]}"
    store.update(tx.connection, draft_id, {"state": "held", "reason": said, "changed_at": tx.now})
    whole = get(tx, actor, draft_id)
    store.ask_no_more(tx.connection, draft_id)
    account_id = int(accounts.ids[row])
    entry = log_service.Entry("draft declined", found.name, account_id, None, {"reason": reason})
    log_service.write(tx, actor, account_id, [entry])
    subject = f"{accounts.name(row)}: “{found.name}” was declined"
    key = f"draft {draft_id} declined {tx.now.isoformat()}"
    told = Notice(key, "change", account_id, subject, said, parent_too=False)
    notices_service.notify(tx, accounts, [told], but_not=actor.email)
    return whole


def open_again(tx: Transaction, actor: Actor, draft_id: int) -> Draft:
    """Take a scheduled, held or asked draft back to edit it; refused while another one is open."""
    found = _mine(tx, actor, draft_id, lock=True)
    if found.state not in WAITING:
        raise conflict(f"This draft is {found.state}; only one that waits can be opened again.")
    if found.owner_id != actor.sign_in_id and found.state == "asked":
        raise not_allowed("Apply it, or decline it; taking it back is for who asked.")
    _refuse_second(tx, actor)
    store.ask_no_more(tx.connection, draft_id)
    store.update(tx.connection, draft_id, {"state": "open", "apply_on": None, "changed_at": tx.now})
    return get(tx, actor, draft_id)


def discard(tx: Transaction, actor: Actor, draft_id: int) -> None:
    """Put a draft away for good."""
    found = _mine(tx, actor, draft_id, lock=True)
    if found.owner_id != actor.sign_in_id:
        raise not_allowed(f"This draft is {found.owner_name}'s to discard.")
    if found.state == "applied":
        raise conflict("This draft is applied; reverse it instead.")
    store.update(tx.connection, draft_id, {"state": "discarded", "changed_at": tx.now})


def share(tx: Transaction, actor: Actor, draft_id: int, email: str) -> Draft:
    """Let a colleague see and edit a draft: somebody who runs the branch it was made in, or one above."""
    found = _mine(tx, actor, draft_id, lock=True)
    colleague = sign_in_service.find_by_email(tx, email)
    accounts = accounts_service.known(tx)
    above = [int(accounts.ids[row]) for row in accounts.tree.path_up(accounts.tree.row(found.through))]
    running = {row.sign_in_id for rows in sign_in_service.admins_of(tx, above).values() for row in rows}
    if colleague is None or colleague.id not in running:
        raise invalid(f"No admin of {found.through} has the address {email}.", "email")
    store.share(tx.connection, draft_id, colleague.id)
    return get(tx, actor, draft_id)


def reverse(tx: Transaction, actor: Actor, draft_id: int) -> Draft:
    """Make a draft that puts back what an applied one changed; it is looked at and applied like any other."""
    found = _mine(tx, actor, draft_id)
    if found.state != "applied":
        raise conflict("Only an applied draft can be reversed.")
    _refuse_second(tx, actor)
    changes = [adapter.validate_python(body) for body in store.changes(tx.connection, draft_id)]
    whole = _begin(tx, actor, f"Reverses: {found.name}", found.id)
    return edit(tx, actor, whole.id, whole.revision, reversed_changes(tx, changes))


NEEDED = {
    "allocation": "drafts.change",
    "units": "seats.give",
    "person limit": "layers.change",
    "folder": "layers.change",
}
"""What a change needs besides that drafts may be changed at all; every other kind needs that accounts may be."""


def _may(actor: Actor, changes: Sequence[Change]) -> None:
    """Refused where the actor's role does not have what one of these changes needs."""
    for each in changes:
        needed = NEEDED.get(each.kind, "accounts.change")
        if needed not in actor.permissions:
            raise not_allowed(f"Your role here does not let you {PERMISSIONS[needed]}.")


def _person(actor: Actor) -> int:
    if actor.sign_in_id is None:
        raise not_found("draft", "of the command line")
    return actor.sign_in_id


def _through(tx: Transaction, actor: Actor) -> int:
    accounts = accounts_service.known(tx)
    return int(accounts.ids[accounts_service.top_row(accounts, actor)])


def _mine(tx: Transaction, actor: Actor, draft_id: int, lock: bool = False) -> Any:
    accounts, of = accounts_service.known(tx), _person(actor)
    found = store.one(tx.connection, draft_id, lock, of)
    if found is None or found.state == "discarded":
        raise not_found("draft", str(draft_id))
    accounts_service.row_in_scope(accounts, actor, found.through)
    return found


def _whole(tx: Transaction, row: DraftRecord) -> Draft:
    changes = [adapter.validate_python(body) for body in store.changes(tx.connection, row.id)]
    return Draft(row, changes, store.shares(tx.connection, row.id), _named(tx, row.through, changes))


def _named(tx: Transaction, through: str, changes: Sequence[Change]) -> dict[str, str]:
    """The people of a branch among those to whom units are given or from whom they are taken."""
    usernames = {subject for each in changes if isinstance(each, UnitsChange) for subject in each.subjects}
    if not usernames:
        return {}
    accounts = accounts_service.known(tx)
    tree, top = accounts.tree, accounts.tree.row(through)
    found = people.by_username(tx, sorted(usernames)[:MOST_NAMED])
    return {
        name: person.display_name
        for name, person in found.items()
        if tree.is_inside(accounts.row_of_id[person.account_id], top)
    }


def _begin(tx: Transaction, actor: Actor, name: str | None, reverses_id: int | None = None, state: str = "open") -> Any:
    now, day = tx.now, accounts_service.today(tx)
    draft_id = store.add(
        tx.connection,
        {
            "name": (name or "").strip() or f"{wording.DEFAULT_NAME}{day_name(day)}",
            "state": state,
            "owner_id": _person(actor),
            "through_id": _through(tx, actor),
            "revision": 0,
            "created_at": now,
            "changed_at": now,
            "reverses_id": reverses_id,
        },
    )
    return store.one(tx.connection, draft_id)


def _refuse_second(tx: Transaction, actor: Actor) -> None:
    there = store.open_of(tx.connection, _person(actor), _through(tx, actor))
    if there is not None:
        if store.changes(tx.connection, there.id):
            raise conflict(f"You have a draft open, “{there.name}”. Apply, schedule or discard it first.")
        store.update(tx.connection, there.id, {"state": "discarded"})
