"""Every example of docs/api.md does what it says, in its order, and what docs/security.md names is there."""

from __future__ import annotations

import json
import re
import shlex
from datetime import timedelta
from pathlib import Path
from string import Template

from fastapi.testclient import TestClient

from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.sign_in import keys
from tests.app.test_delegations import TODAY, given
from tests.app.test_keys import with_key

DOC = Path(__file__).parents[2] / "docs" / "api.md"
EXAMPLE = re.compile(r"^(?:(\w+)=\$\()?ladle (GET|POST|PUT|PATCH|DELETE) (.+?)(?: \| jq -r \.(\w+)\))?$", re.M)


def test_what_the_checklist_says_is_tested_is_there() -> None:
    tests = Path(__file__).parent
    for file, name in re.findall(r"`(test_\w+\.py)(?:::(test_\w+))?`", (DOC.parent / "security.md").read_text()):
        assert f"def {name}" in (tests / file).read_text(), f"{file}::{name}"
    rows = [row for row in (DOC.parent / "security.md").read_text().splitlines() if re.match(r"\| (\d|Keys)", row)]
    assert [row for row in rows if "`test" not in row and "`tests/" not in row] == [], "each says what tests it"


def test_whatever_is_installed_is_pinned_with_its_hash() -> None:
    root = DOC.parents[1]
    for listed in sorted((root / "requirements").glob("*.txt")):
        text = listed.read_text()
        pinned = re.findall(r"^[A-Za-z0-9._-]+==\S+ \\\n    --hash=sha256:", text, re.M)
        assert pinned and len(pinned) == len(re.findall(r"^[A-Za-z0-9]", text, re.M)), listed.name
    parts = json.loads((root / "web" / "package-lock.json").read_text())["packages"]
    assert [name for name, each in parts.items() if name and "integrity" not in each] == []


def test_the_examples_of_the_api_work(app: TestClient, demo: Database) -> None:
    who = given(demo, COMMAND_LINE, "GANNET", passes_on=True)
    program = with_key(app, demo.run(keys.make, who, "Examples", TODAY + timedelta(7), None))
    found, done = dict[str, str](), 0
    for name, method, asked, member in EXAMPLE.findall(DOC.read_text()):
        path, *body = shlex.split(asked)
        text = Template(body[0]).substitute(found) if body else None
        answer = program.request(
            method, Template(path).substitute(found), content=text, headers={"Content-Type": "application/json"}
        )
        assert answer.is_success, (asked, answer.status_code, answer.text)
        if name:
            found[name] = str(json.loads(answer.text)[member])
        done += 1
    assert done > 18 and {"DRAFT", "REVISION"} <= found.keys()
