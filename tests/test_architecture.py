"""Every part imports only what it may, and uses it; whoever asks is known; types, lint and format hold."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from importlinter.application.use_cases import FAILURE, lint_imports
from importlinter.configuration import configure

PROJECT = Path(__file__).parents[1]
APP = PROJECT / "fair_ladle" / "app"
WEB = ("fastapi", "starlette", "fair_ladle.app.plumbing.http", "fair_ladle.app.plumbing.routing")
SECRETS = {"token", "key", "password"}
"""What somebody who is not signed in shows instead."""
OPEN_TO_ALL = {
    "people_admin.domains.ask": "the answer is the same whatever the address",
    "devices.offline.public_key": "a key that is public",
    "sign_in.usecases.forgotten": "the answer is the same whatever the address",
    "accounts.service.is_set_up": "whether there is anything at all",
    "accounts.service.zone": "the installation's time zone",
    "allocations.snapshots.instant_of": "a day in that zone",
}


def is_of_the_web(module: Path) -> bool:
    """Routes, and what is made for them alone."""
    return module.stem.endswith("routes") or module.stem in ("schemas", "effects")


def modules() -> Iterator[tuple[Path, ast.Module]]:
    """The modules of capabilities: all of the application but its plumbing."""
    for module in sorted(APP.glob("*/*.py")):
        if module.parent.name != "plumbing":
            yield module, ast.parse(module.read_text())


def imports(tree: ast.Module) -> Iterator[tuple[str, str, str]]:
    """(module, name in it or empty, what it is called here)."""
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom):
            yield from ((node.module or "", each.name, each.asname or each.name) for each in node.names)
        elif isinstance(node, ast.Import):
            yield from ((each.name, "", each.asname or each.name) for each in node.names)


def test_the_parts_stand_on_one_another_as_they_should() -> None:
    configure()
    assert lint_imports(config_filename=str(PROJECT / "pyproject.toml")) is not FAILURE


def test_only_routes_see_the_web_and_routes_see_no_tables() -> None:
    wrong = []
    for module, tree in modules():
        for source, name, _ in imports(tree):
            of_app = source.startswith("fair_ladle.app") and not source.startswith("fair_ladle.app.plumbing")
            named = {source.rpartition(".")[2], name} if of_app else set()
            if is_of_the_web(module):
                bad = bool(named & {"store", "tables"})
            else:
                bad = source.startswith(WEB) or any(each.endswith("routes") or each == "schemas" for each in named)
            if bad:
                wrong.append(f"{module.relative_to(APP)} imports {name} of {source}")
    assert wrong == []


def test_every_use_case_that_a_route_runs_takes_an_actor() -> None:
    """What `service.py` and the inner modules do is trusted: a route runs none of it."""
    functions = {
        f"{module.parent.name}.{module.stem}.{node.name}": node
        for module, tree in modules()
        if not is_of_the_web(module)
        for node in tree.body
        if isinstance(node, ast.FunctionDef)
    }
    wrong, seen = [], 0
    for module, tree in modules():
        if not is_of_the_web(module):
            continue
        called = {here: f"{source.removeprefix('fair_ladle.app.')}.{name}" for source, name, here in imports(tree)}
        for node in ast.walk(tree):
            if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
                name = f"{called.get(node.value.id, '')}.{node.attr}"
            elif isinstance(node, ast.Name):
                name = called.get(node.id, "")
            else:
                continue
            function = functions.get(name)
            if function is None or [each.arg for each in function.args.args][:1] != ["tx"]:
                continue
            seen += 1
            who = {ast.unparse(each.annotation) for each in function.args.args if each.annotation}
            if "Actor" not in who and not SECRETS & {each.arg for each in function.args.args}:
                wrong.append(f"{module.relative_to(APP)} runs {name}")
    assert seen > 150 and [each for each in wrong if each.split(" runs ")[1] not in OPEN_TO_ALL] == []


def test_what_a_signal_calls_takes_no_lock() -> None:
    """It comes while the thread may have that lock, within itself too: it would wait for ever."""
    wrong = []
    for module in sorted(APP.parent.rglob("*.py")):
        tree = ast.parse(module.read_text())
        functions = {node.name: node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)}
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and ast.unparse(node.func) == "signal.signal":
                called = functions.get(ast.unparse(node.args[1]), node.args[1])
                for each in ast.walk(called):
                    if isinstance(each, ast.Attribute) and each.attr in (
                        "set",
                        "acquire",
                        "notify_all",
                        "put",
                        "warning",
                    ):
                        wrong.append(f"{module}:{each.lineno}: {ast.unparse(each)}")
    assert wrong == []


def test_types() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "mypy", "fair_ladle"],
        cwd=PROJECT,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-3000:]


def test_lint_and_format() -> None:
    for arguments in (["check"], ["format", "--check"]):
        done = subprocess.run(
            [sys.executable, "-m", "ruff", *arguments, "."], cwd=PROJECT, capture_output=True, text=True, check=False
        )
        assert done.returncode == 0, done.stdout[-3000:]
