"""What a delegation may let somebody do: named permissions, of which each route needs one, and ready-made sets."""

from __future__ import annotations

from dataclasses import dataclass

PERMISSIONS: dict[str, str] = {
    "accounts.see": "see accounts and their names",
    "accounts.change": "change accounts, purchases and rates, thresholds and templates",
    "allocations.see": "see allocations, what is in use, requests and drafts",
    "drafts.change": "draft and apply allocations",
    "requests.make": "ask for more, and answer who asks",
    "pools.see": "see pools, lots and what they cost",
    "people.see": "see people, groups and what they hold",
    "people.change": "add, change, suspend, move and remove people",
    "people.invite": "send and withdraw invitations, and unlock sign-ins",
    "seats.give": "give, take back and swap seats; take back what is idle",
    "groups.change": "make and change groups",
    "layers.change": "change what accounts and groups give, and storage limits",
    "devices.see": "see devices, sessions and numbers",
    "devices.change": "give and take back devices, sessions, numbers and keys",
    "statements.see": "see statements and prices",
    "statements.close": "close months, which numbers their statements",
    "statements.settle": "send statements, take payments, and answer questions about them",
    "products.change": "make and change products; bring intakes in",
    "delegations.see": "see who may do what",
    "delegations.give": "let others run a branch, and end that",
    "log.see": "read the log",
    "server.see": "see the server's figures",
}
"""Each with what it lets one do."""
OWN = "own"
"""What everybody who is signed in may do with what is their own: their session and password."""


@dataclass(frozen=True)
class Role:
    """A set of permissions by a name."""

    key: str
    name: str
    about: str
    permissions: frozenset[str]


EVERYTHING = frozenset(PERMISSIONS)
ROLES = {
    role.key: role
    for role in (
        Role("admin", "Branch admin", "Everything in the branch.", EVERYTHING),
        Role(
            "steward",
            "Licence steward",
            "Assigns and releases seats and devices, drafts allocations, requests more.",
            frozenset(
                {
                    *("accounts.see", "allocations.see", "drafts.change", "requests.make", "pools.see", "people.see"),
                    *("people.invite", "seats.give", "devices.see", "devices.change"),
                }
            ),
        ),
        Role(
            "billing",
            "Billing reader",
            "Reads statements, pools and what they cost.",
            frozenset({"accounts.see", "statements.see", "pools.see"}),
        ),
        Role(
            "auditor",
            "Auditor",
            "Reads everything in the branch, the log too.",
            frozenset(each for each in EVERYTHING if each.endswith(".see")),
        ),
        Role(
            "desk",
            "Service desk",
            "Finds people, unlocks their sign-in, and sends their invitations again.",
            frozenset({"accounts.see", "people.see", "people.invite"}),
        ),
    )
}
"""Ready-made roles, by their keys."""
