"""Entries of the log in sentences.

A template's places are filled from an entry: ``{who}`` is whom or what it is about, ``{product}`` the product's name,
``{account}`` the account's; all others are what the entry keeps under that name, before or after.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fair_ladle.app.log.rows import EntryRecord

MOST_NAMED, MOST_CLAUSES = 2, 3

TEMPLATES = {
    "assigned": "Assigned {product} to {who}",
    "released": "Released {product} from {who}",
    "released with its account": "Released all {who} of {account}",
    "seat set aside": "Reserved a seat of {product} for {who}",
    "set-aside seat let go": "Cancelled the reserved seat of {product} for {who}",
    "put on hold": "Put on hold: {product} of {who}",
    "hold ended": "Ended the hold of {product} for {who}",
    "allocation changed": "Changed the allocation of {product} for {account}",
    "account created": "Created {who}",
    "account changed": "Changed the details of {account}",
    "account moved away": "Moved {who} away from {account}",
    "account moved here": "Moved {who} to {account}",
    "status changed": "Set {who} to {status}",
    "setting changed": "Changed the setting “{who}” of {account}",
    "rate written": "Set the price of {product} for {account} from {from}: {price}",
    "rate taken back": "Withdrew the price of {product} for {account} from {from}",
    "lot bought": "Bought {quantity} of {product} ({lot})",
    "lot renewed": "Renewed {product}: {quantity} ({lot})",
    "lot ended": "Ended {lot} of {product}",
    "lot taken back": "Cancelled {lot} of {product}",
    "month closed": "Closed {month} of {account}: {statements} statements",
    "charge set": "Set the charge {who}",
    "charge removed": "Removed the charge {who}",
    "discount set": "Set the discount {who}",
    "discount removed": "Removed the discount {who}",
    "credit set": "Set the credit {who}",
    "credit removed": "Removed the credit {who}",
    "tax rate set": "Set the tax rate {who}",
    "tax rate removed": "Removed the tax rate {who}",
    "exchange rate set": "Set the exchange rate {who}",
    "exchange rate removed": "Removed the exchange rate {who}",
    "terms loaded": "Loaded {kind} from {who}",
    "budget": "Set the budget of {account}: {budget}",
    "journal accounts": "Changed the journal accounts of {account}",
    "statements sent": "Sent {statements} statements of {account} in {mails} mails",
    "statements reminded of": "Sent {statements} reminders of {account}",
    "payment": "Recorded {amount} paid for statement {number}",
    "payment withdrawn": "Withdrew {amount} paid for statement {number}",
    "statement question": "Asked about statement {number} of {account}: {question}",
    "statement answer": "Answered about statement {number} of {account}: {answer}",
    "billing contacts": "Changed the billing contacts of {account}: {contacts}",
    "product made": "Created the product {who}",
    "product changed": "Changed the product {who}",
    "intake": "Imported an intake",
    "import begun": "Started the import of {who}",
    "import planned": "Planned the import of {who}",
    "import reversed": "Reversed the import of {who}",
    "draft scheduled": "Scheduled the draft “{who}”",
    "draft asked": "Asked for approval of the draft “{who}”",
    "draft declined": "Declined the draft “{who}”",
    "draft held back": "Held back the draft “{who}”",
    "request asked": "Asked: {request}",
    "request granted": "Granted: {request}",
    "request granted in part": "Granted in part: {request}",
    "request granted above": "Granted above: {request}",
    "request refused": "Refused: {request}",
    "request passed up": "Escalated: {request}",
    "request taken back": "Withdrew: {request}",
    "thresholds changed": "Changed the alert levels of {product} for {account}",
    "layer made": "Added the entitlement {product} for {to}",
    "layer changed": "Changed the entitlement {product} for {to}",
    "layer taken away": "Removed the entitlement {product} for {to}",
    "component barred": "Switched {component} of {product} off for {for}",
    "component allowed again": "Allowed {component} of {product} again for {for}",
    "component switched": "Switched a component of {product} for {who}",
    "storage limit per person": "Set the storage limit per person of {who}",
    "reports placed": "Placed storage reports of {who}",
    "storage source made": "Added the storage source {who}",
    "storage source changed": "Changed the storage source {who}",
    "storage source removed": "Removed the storage source {who}",
    "storage source run": "Ran the storage source {who}",
    "storage source tried": "Tried the storage source {who}",
    "sizes recorded": "Recorded a table of sizes for {who}",
    "shared folder made": "Made the shared folder {who}",
    "shared folder changed": "Changed the shared folder {who}",
    "shared folder archived": "Archived the shared folder {who}",
    "shared folder opened again": "Opened the shared folder {who} again",
    "shared folder to be deleted": "Had the shared folder {who} deleted after its waiting time",
    "shared folder deleted": "Deleted the shared folder {who}",
    "shared folder moved away": "Moved the shared folder {who} away",
    "shared folder moved here": "Moved the shared folder {who} here",
    "left behind moved": "Moved what {who} left behind",
    "left behind to be deleted": "Had what {who} left behind deleted after a while",
    "left behind kept": "Kept what {who} left behind",
    "left behind deleted": "Deleted what {who} left behind",
    "reports dropped": "Dropped storage reports of {who}",
    "storage limit": "Set the personal storage limit of {who}",
    "bytes moved away": "Moved stored data of {who} away",
    "bytes moved here": "Moved stored data of {who} here",
    "added": "Added {who}",
    "changed": "Changed the details of {who}",
    "invited": "Invited {who}",
    "invitation withdrawn": "Revoked the invitation of {who}",
    "joined": "{who} joined",
    "asks to join": "{who} requested access",
    "sign-up declined": "Declined the access request of {who}",
    "suspended": "Suspended {who}",
    "resumed": "Resumed {who}",
    "protected": "Protected {who} from reclaim",
    "protection taken off": "Ended the reclaim protection of {who}",
    "removed": "Removed {who}",
    "restored": "Reinstated {who}",
    "erased": "Erased a person; now called {who}",
    "moved away": "Moved {who} to another account",
    "moved here": "Moved {who} here",
    "still needed": "{who} still needs their seats",
    "group made": "Created the group {who}",
    "group changed": "Changed the group {who}",
    "group deleted": "Deleted the group {who}",
    "domain set": "Set self sign-up for {who}",
    "domain asked for": "Asked for self sign-up for {who}",
    "domain taken away": "Removed the domain {who}",
    "template kept": "Saved {after} as the template {who}",
    "template put away": "Deleted the template {who}",
    "policy made": "Created the idle-seat policy “{who}”",
    "policy changed": "Changed the idle-seat policy “{who}”",
    "policy run": "Ran the idle-seat policy “{who}”",
    "policy not run": "Could not run the idle-seat policy “{who}”",
    "policy run taken back": "Reversed the run of “{who}”",
    "key made": "Created the activation key “{who}” for {product}",
    "key withdrawn": "Revoked the activation key “{who}”",
    "revoked": "Revoked {who}",
    "revoking confirmed": "Confirmed the revocation of {who}",
    "let come back": "Reinstated {who}",
    "device given": "Assigned {who} to {to}",
    "session told to end": "Asked {who} to end their session",
    "numbers imported": "Imported {count} numbers of {product}",
    "number withdrawn": "Withdrew {who}",
    "delegation created": "Let {name} run {account}",
    "delegation changed": "Changed what {who} may do in {account}",
    "delegation ended": "Ended the delegation of {who} in {account}",
    "delegation notified again": "Sent {who} their invitation again",
    "second factor required": "Required a second factor in {account} for {who}",
    "second factor not required": "Ended the required second factor in {account} for {who}",
    "role composed": "Created the role “{who}”",
    "role changed": "Changed the role “{who}”",
    "role taken away": "Deleted the role “{who}”",
    "keys ended": "Revoked the API keys of {who}",
    "program key made": "Created the API key “{who}”",
    "program key replaced": "Replaced the API key “{who}”",
    "program key ended": "Revoked the API key “{who}”",
    "key refused": "Used the API key “{who}”, which no longer works",
    "signed in": "Signed in",
    "sign-in refused": "Failed to sign in",
    "link refused": "Used a link that no longer works",
    "sign-in locked": "Locked the sign-in of {who}",
    "sign-in unlocked": "Unlocked the sign-in of {who}",
    "sign-in given": "Gave {name} a sign-in for {account}",
    "password set": "Set a password",
    "password changed": "Changed their password",
    "sessions ended": "Ended sessions of {who}",
    "second factor set up": "Set up a second factor",
    "second factor taken away": "Removed their second factor",
    "set up": "Set up {operator}",
    "refused": "Was refused: {who}",
}
"""What each action is called in a sentence."""

KINDS = {
    "seat set aside": "seat reserved",
    "set-aside seat let go": "reservation cancelled",
    "layer made": "entitlement added",
    "layer changed": "entitlement changed",
    "layer taken away": "entitlement removed",
    "component barred": "component switched off",
    "component allowed again": "component allowed",
    "domain taken away": "domain removed",
    "template kept": "template saved",
    "template put away": "template deleted",
    "bytes moved away": "stored data moved away",
    "bytes moved here": "stored data moved here",
    "let come back": "device reinstated",
    "revoked": "device revoked",
    "revoking confirmed": "revoking of device confirmed",
    "device given": "device assigned",
    "lot taken back": "lot cancelled",
    "request passed up": "request escalated",
    "request taken back": "request withdrawn",
    "policy run taken back": "policy run reversed",
    "program key made": "API key created",
    "program key replaced": "API key replaced",
    "program key ended": "API key revoked",
    "role taken away": "role deleted",
    "role composed": "role created",
    "second factor taken away": "second factor removed",
    "added": "person added",
    "changed": "person changed",
    "removed": "person removed",
    "restored": "person reinstated",
    "suspended": "person suspended",
    "resumed": "person resumed",
    "invited": "person invited",
    "joined": "person joined",
    "moved away": "person moved away",
    "moved here": "person moved here",
    "erased": "person erased",
}
"""What an action is called in a list of them, where its own name is not it."""


def kind_name(action: str) -> str:
    """An action as a list of kinds has it."""
    name = KINDS.get(action, action.removeprefix("intake: ") + " loaded" if action.startswith("intake: ") else action)
    return name[:1].upper() + name[1:]


ABOUT_PRODUCTS = {
    *("allocation changed", "lot bought", "lot renewed", "lot ended", "lot taken back", "rate written"),
    *("thresholds changed", "layer made", "layer changed", "layer taken away", "released with its account"),
    *("numbers imported", "product made", "product changed"),
    *("component barred", "component allowed again"),
    *(f"request {each}" for each in ("asked", "granted", "granted in part", "granted above", "refused", "passed up")),
    "request taken back",
}
"""Actions whose subject is a product's code."""

WORDS = {"at_cap": "at the cap", "first_day": "first day", "last_day": "last day", "display_name": "name"}


@dataclass(frozen=True)
class Names:
    """What is called how: products by code, accounts by code and by id, and people by username."""

    products: Mapping[str, str]
    accounts: Mapping[str, str]
    account_of_id: Mapping[int, str]
    people: Mapping[str, str]

    def of(self, subject: str) -> str:
        """What an entry is about, as people call it."""
        return self.people.get(subject) or self.products.get(subject) or self.accounts.get(subject) or subject


def listed(names: Sequence[str], most: int = MOST_NAMED) -> str:
    """Names as a sentence has them: the first few, and how many more there are."""
    each = list(dict.fromkeys(names))
    more = len(each) - most
    if more > 1:
        return f"{', '.join(each[:most])} and {more:,} more"
    return each[0] if len(each) == 1 else f"{', '.join(each[:-1])} and {each[-1]}"


def sentence(entries: Sequence[Any], names: Names) -> str:
    """What was done in one act, in one sentence; ``entries`` are its entries in the log, in any order.

    An applied draft or a granted request says what it changed: entries are put together by what was done, at most three
    kinds of it; how many entries the others are is told at the end.
    """
    kinds: dict[str, list[Any]] = {}
    for each in entries:
        kinds.setdefault(each.action, []).append(each)
    first = sorted(kinds.values(), key=len, reverse=True)[:MOST_CLAUSES]
    told = "; ".join(_clause(each, names) for each in first)
    rest = len(entries) - sum(len(each) for each in first)
    return f"{told}; {rest:,} more entries" if rest else told


def _clause(entries: Sequence[Any], names: Names) -> str:
    action = entries[0].action
    template = TEMPLATES.get(action) or (
        f"Loaded {action.removeprefix('intake: ')}: {{who}}" if action.startswith("intake: ") else f"{action}: {{who}}"
    )
    products = [_product(each, names) for each in entries]
    accounts = [names.account_of_id.get(each.account_id, "the installation") for each in entries]
    if action == "allocation changed" and len(set(accounts)) > 1 and len(set(products)) > 1:
        return f"Changed {len(entries)} allocations of {listed(products)} for {listed(accounts)}"
    values: dict[str, str] = {}
    for each in reversed(entries):
        facts = [*(each.before or {}).items(), *(each.after or {}).items()]
        values |= {name: names.of(str(value)) for name, value in facts}
    return template.format_map(
        _Said(
            values
            | {
                "who": listed([names.of(each.subject) for each in entries]),
                "product": listed(products),
                "account": listed(accounts),
            }
        )
    )


def _product(entry: EntryRecord, names: Names) -> str:
    code = entry.subject
    if entry.action not in ABOUT_PRODUCTS:
        code = (entry.after or {}).get("product") or (entry.before or {}).get("product") or code
    return names.products.get(code, code)


class _Said(dict[str, str]):
    def __missing__(self, key: str) -> str:
        return "–"


def detail(entry: EntryRecord, names: Names) -> str:
    """The figures and facts of one entry that its sentence does not say: from what to what."""
    template = TEMPLATES.get(entry.action, "")
    before, after = entry.before or {}, entry.after or {}
    told = []
    for name in dict.fromkeys([*before, *after]):
        if name == "product" or f"{{{name}}}" in template:
            continue
        was, now = before.get(name), after.get(name)
        what = WORDS.get(name, name.replace("_", " "))
        if was is None or now is None:
            said = str(was if now is None else now)
            told.append(f"{what} {names.products.get(said, said)}")
        else:
            told.append(f"{what} {was} → {now}")
    return "; ".join(told)
