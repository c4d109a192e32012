"""`fair-ladle device …` and `fair-ladle session …`: a small simulated client of the public API, for trying and for
scripts."""

from __future__ import annotations

import json
import socket
import time
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any

import typer

from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.connectors.reporting_client import DeviceClient, NotDone, ask

device = typer.Typer(no_args_is_help=True, help="A machine that activates by a key and reports (simulated).")
session = typer.Typer(no_args_is_help=True, help="A session of concurrent use, kept by heartbeats (simulated).")
Server = Annotated[str, typer.Option("--server", help="Where Fair Ladle answers.")]
State = Annotated[Path, typer.Option("--state", help="The folder in which the machine keeps what it knows.")]
Key = Annotated[str, typer.Option("--key", help="The key it begins with.")]
Machine = Annotated[str, typer.Option("--machine", help="What the machine is called; unlike any other one.")]
HERE = socket.gethostname() or "machine"
USUAL = Settings.read().address


def _tried(work: Callable[[], Any]) -> Any:
    try:
        return work()
    except NotDone as trouble:
        typer.echo(str(trouble), err=True)
        raise typer.Exit(1) from None


def _read(file: Path) -> dict[str, Any]:
    try:
        found = json.loads(file.read_text())
    except (OSError, ValueError) as trouble:
        raise NotDone(f"{file} cannot be read: {trouble}") from None
    if not isinstance(found, dict):
        raise NotDone(f"{file} is no such file.")
    return found


@device.command("activate")
def activate(key: Key, state: State, machine: Machine = HERE, name: str = "", server: Server = USUAL) -> None:
    """Begin with a key."""
    typer.echo(f"{machine} is active: {_tried(lambda: DeviceClient(state).activate(server, key, machine, name))}.")


@device.command("report")
def report(
    state: State, every: Annotated[float, typer.Option("--every", help="Go on, every so many seconds.")] = 0
) -> None:
    """Say that it is there; exits with 1 where the device was revoked."""
    client = DeviceClient(state)
    while True:
        found = _tried(client.report)
        typer.echo(found["says"] or found["state"])
        if not every:
            break
        time.sleep(every)


@device.command("give-back")
def give_back(state: State) -> None:
    """Give the unit back."""
    _tried(DeviceClient(state).give_back)
    typer.echo("Given back.")


@device.command("status")
def status(state: State) -> None:
    """What the machine may do."""
    typer.echo(DeviceClient(state).works())


@device.command("request-file")
def request_file(
    key: Key,
    state: State,
    out: Annotated[Path, typer.Argument(help="The file to write.")],
    machine: Machine = HERE,
    name: str = "",
) -> None:
    """Write the file that is carried to the server where there is no network."""
    out.write_text(json.dumps(DeviceClient(state).request_file(key, machine, name), indent=1))
    typer.echo(f"{out} is written; have it answered under Devices.")


@device.command("take-answer")
def take_answer(
    answer: Path,
    state: State,
    public_key: Annotated[str, typer.Option("--public-key", help="The server's, as shown under Devices.")],
) -> None:
    """Take the signed answer that was carried back."""
    until = _tried(lambda: DeviceClient(state).take_answer(_read(answer), public_key))
    typer.echo(f"Works without a network until {until:%-d %b %Y %H:%M %Z}.")


@session.command("run")
def run_session(
    key: Key,
    username: Annotated[str, typer.Option("--username", help="Whose session it is.")],
    machine: Machine = HERE,
    server: Server = USUAL,
    seconds: Annotated[float, typer.Option("--seconds", help="Close after so many; 0 = go on until it is ended.")] = 0,
) -> None:
    """Begin a session and keep it by heartbeats; says when to save, and exits with 1 where it was ended."""
    found = _tried(lambda: ask(server, "/sessions/begin", {"key": key, "username": username, "machine": machine}))
    token, begin = found["token"], time.monotonic()
    typer.echo(
        f"{username} works on {machine}: {found['product']}."
        + (f" Told to end: {', '.join(found['ends_on'])}." if found["ends_on"] else "")
    )
    try:
        while not seconds or time.monotonic() - begin < seconds:
            beat = _tried(lambda: ask(server, "/sessions/beat", token=token))
            if beat["says"]:
                typer.echo(beat["says"])
            left = seconds - (time.monotonic() - begin) if seconds else float("inf")
            time.sleep(max(0.0, min(float(beat["beat_again"]), left)))
    except KeyboardInterrupt:
        pass
    _tried(lambda: ask(server, "/sessions/end", token=token))
    typer.echo("Closed.")
