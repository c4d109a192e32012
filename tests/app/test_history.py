"""The log as people read it: one act however many it concerned, in a sentence, with names."""

from __future__ import annotations

import ast
from pathlib import Path

from fastapi.testclient import TestClient

import fair_ladle
from fair_ladle.app.drafts.change_types import AllocationChange, Terms
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.history.wording import TEMPLATES
from fair_ladle.app.people_admin import acting, joining
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.plumbing.database import Database
from tests.app.test_keys import signs_in


def test_every_action_has_a_sentence() -> None:
    said = set()
    for path in Path(fair_ladle.__file__).parent.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and ast.unparse(node.func).endswith(("log_service.Entry", "self._log")):
                said |= {each.value for each in ast.walk(node.args[0]) if isinstance(each, ast.Constant)}
    known = {each for each in said if isinstance(each, str) and not each.startswith(("intake: ", "request "))}
    assert len(known) > 40 and known - set(TEMPLATES) == set()


def test_an_act_is_one_sentence_with_names(app: TestClient, demo: Database) -> None:
    boss, client = signs_in(demo, app)
    names = ("Ada", "Ben", "Cleo", "Dov")
    people = [
        demo.run(
            joining.add, boss, NewPerson(account="OLDQUAY-CREW", display_name=f"{name} Quill", email=None, invite=False)
        )
        for name in names
    ]
    demo.run(acting.act, boss, "suspend", Asked(usernames=tuple(people)), ActOptions(keep_seats=True))
    cap = AllocationChange(account="OLDQUAY-CREW", product="DISPATCH", terms=Terms(cap=41), seen=None)
    demo.run(apply_changes, boss, [cap], "draft 7")
    acts = client.get("/api/log/acts").json()["acts"]
    assert acts[0]["sentence"] == "Changed the allocation of Fieldbook Dispatch for Crew Office"
    assert acts[0]["detail"].endswith("through draft 7") and "cap 41 " in acts[0]["detail"]
    assert acts[1]["sentence"] == "Suspended Dov Quill, Cleo Quill and 2 more" and acts[1]["entries"] == 4
    inside = client.get(
        "/api/log/entries", params={"newest": acts[1]["newest"], "oldest": acts[1]["oldest"], "by": acts[1]["actor"]}
    ).json()
    assert [each["sentence"] for each in inside] == [f"Suspended {name} Quill" for name in reversed(names)]
    _, operator = signs_in(demo, app, "GANNET")
    seen = operator.get("/api/log/acts", params={"account": "OLDQUAY"}).json()["acts"]
    assert seen[0]["accounts"] == [{"account": "OLDQUAY-CREW", "name": "Crew Office · Old Quay Ferries"}]
    assert sum(each["entries"] for each in operator.get("/api/log/days").json()["days"]) > 9


def test_pages_of_acts_have_every_entry_once(app: TestClient, demo: Database) -> None:
    _, operator = signs_in(demo, app, "GANNET")
    entries = [each["number"] for each in operator.get("/api/log", params={"limit": 500}).json()["entries"]]
    found, before = [], None
    while True:
        page = operator.get("/api/log/acts", params={"limit": 2} | ({"before": before} if before else {})).json()
        for act in page["acts"]:
            inside = operator.get(
                "/api/log/entries", params={"newest": act["newest"], "oldest": act["oldest"], "by": act["actor"]}
            ).json()
            assert len(inside) == act["entries"]
            found += [each["number"] for each in inside]
        before = page["before"]
        if before is None:
            break
    assert found == entries and len(set(found)) == len(found)


def test_nothing_above_the_reader_is_named(app: TestClient, demo: Database) -> None:
    """Two levels down: neither the department above nor the client is told with one's own account."""
    boss, below = signs_in(demo, app, "OLDQUAY-ENGINEERING-QUAYS")
    demo.run(joining.add, boss, NewPerson(account="OLDQUAY-ENGINEERING-QUAYS", display_name="Ada Quill", invite=False))
    acts = below.get("/api/log/acts")
    assert acts.json()["acts"][0]["accounts"] == [{"account": "OLDQUAY-ENGINEERING-QUAYS", "name": "Quays"}]
    assert "Old Quay" not in acts.text and "Engineering Yard" not in acts.text
