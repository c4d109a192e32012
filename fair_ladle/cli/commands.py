"""`fair-ladle`: the same figures as on the screens, for scripts and for checking."""

from __future__ import annotations

import shutil
import signal
import socket
import subprocess
import sys
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

import sqlalchemy as sa
import typer
from rich.markup import escape
from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

from fair_ladle.app.accounting import journal
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations.positions import SUPPLY, positions_at
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.data_import.formats import Expected, instant, number
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import WAITED, Again, Database, OutcomeUnknown, code_of
from fair_ladle.app.plumbing.installation import close_installation, is_demo, make_home, open_database
from fair_ladle.app.plumbing.own_server import OwnServer, ServerTrouble
from fair_ladle.app.plumbing.problems import Refused, invalid, not_found
from fair_ladle.app.plumbing.settings import DEFAULT_PORT, Settings
from fair_ladle.app.pools import service as pools
from fair_ladle.app.receivables import payments
from fair_ladle.app.setup import usecases as setup
from fair_ladle.app.sign_in import delegating
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.app.statements import closing
from fair_ladle.app.statements import usecases as statements
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.months import read_month
from fair_ladle.app.statements.sheets import COLUMNS, statement_rows
from fair_ladle.cli.output import show, to_people
from fair_ladle.cli.reporting import device, session
from fair_ladle.connectors.sheets_in import Unreadable, read_source
from fair_ladle.core.costing import currencies_of
from fair_ladle.core.quantities import to_grains, to_units, units_to_micro
from fair_ladle.core.settling import NO_LIMIT

app = typer.Typer(
    add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False, help="Fair Ladle on the command line."
)
app.add_typer(device, name="device")
app.add_typer(session, name="session")
Csv = Annotated[bool, typer.Option("--csv", help="CSV on standard output.")]
ProductCode = Annotated[str, typer.Option("--product", help="The product's code.")]
Month = Annotated[str, typer.Option("--month", help="YYYY-MM.")]


def run(usecase: Callable[..., Any]) -> Any:
    """A use-case against the installation's database, in one transaction."""
    return open_database().run(usecase)


def _at(text: str | None, now: datetime) -> datetime:
    if text is None:
        return now
    try:
        return instant(text)
    except Expected as expected:
        raise invalid(f"--at {text!r}: write {expected}.") from None


MOST_REMARKS = 20
"""What an import remarks beside its result is told of so many rows."""


@app.command("import")
def import_(path: Path, as_csv: Csv = False) -> None:
    """Bring an intake in: a folder, a zip or a workbook."""
    try:
        source = read_source(path)
        with Progress(
            SpinnerColumn(), TextColumn("{task.description}"), TimeElapsedColumn(), console=to_people, transient=True
        ) as progress:
            task = progress.add_task("reading")
            loaded = run(
                lambda tx: data_import.load(
                    tx,
                    COMMAND_LINE,
                    source,
                    lambda what, done: progress.update(task, description=f"{what} {done:,}" if done else what),
                )
            )
    except (Unreadable, data_import.FaultyIntake) as trouble:
        faults = trouble.faults
        show(
            ("file", "row", "column", "found", "expected"),
            [(f.file, f.row, f.column, f.found, f.expected) for f in faults],
            as_csv,
        )
        raise typer_exit(f"{len(faults)} {'fault' if len(faults) == 1 else 'faults'}; nothing was changed.") from None
    show(
        ("table", "created", "changed", "left"),
        [(name, merged.created, merged.changed, merged.left) for name, merged in loaded.tables.items()],
        as_csv,
    )
    for each in loaded.remarks[:MOST_REMARKS]:
        said = f"{each.file} row {each.row}, {each.column} {each.found}: expected {each.expected}."
        to_people.print(escape(said), style="yellow", soft_wrap=True)
    if len(loaded.remarks) > MOST_REMARKS:
        to_people.print(f"… and {len(loaded.remarks) - MOST_REMARKS:,} more like these.", style="yellow")


def typer_exit(message: str) -> typer.Exit:
    """Say why on standard error and end with 1."""
    to_people.print(escape(message), style="red", soft_wrap=True)
    return typer.Exit(1)


@app.command()
def positions(
    product: ProductCode, at: Annotated[str | None, typer.Option("--at")] = None, as_csv: Csv = False
) -> None:
    """Every account's position in the product's pools."""

    def rows(tx: Any) -> list[tuple[Any, ...]]:
        found = positions_at(tx, [pools.product(tx, product)], _at(at, tx.now))
        snapshot, measure = found.snapshot, found.snapshot.products[0].measure
        states = found.states()
        lines = []
        for row in snapshot.accounts.tree.rows_in_order().tolist():
            if snapshot.owner[row, 0] < 0:
                continue
            cap = int(snapshot.grid.cap[row, 0])

            def units(grains: Any) -> str:
                return f"{to_units(int(grains), measure):f}"

            lines.append(
                (
                    snapshot.accounts.tree.codes[row],
                    product,
                    units(snapshot.grid.reserve[row, 0]),
                    None if cap >= NO_LIMIT else units(cap),
                    units(snapshot.own[row, 0]),
                    units(found.settled.load[row, 0]),
                    units(found.settled.held[row, 0]),
                    units(found.headroom.room[row, 0]),
                    found.bound_by(row, 0),
                    states[row][0],
                )
            )
        return lines

    show(
        ("account", "product", "reserve", "cap", "own", "load", "held", "headroom", "bound_by", "state"),
        run(rows),
        as_csv,
    )


@app.command()
def headroom(
    account: str,
    product: str,
    take: Annotated[str | None, typer.Option("--take", help="Units.")] = None,
    as_csv: Csv = False,
) -> None:
    """The way up from an account, limit by limit, and the one that binds."""

    def rows(tx: Any) -> tuple[list[tuple[Any, ...]], str, str]:
        wanted = pools.product(tx, product)
        found = positions_at(tx, [wanted], tx.now)
        tree = found.snapshot.accounts.tree
        if account not in tree:
            raise not_found("account", account)
        row = tree.row(account)
        if found.snapshot.owner[row, 0] < 0:
            raise not_found(f"pool of {product} from {account} upwards,", product)
        ladder = found.ladder(row, 0)

        def units(grains: int | None) -> str | None:
            return None if grains is None else f"{to_units(grains, wanted.measure):f}"

        lines: list[tuple[Any, ...]] = []
        for rung, limit in zip([*found.way_up(row, 0), None], ladder.limits, strict=True):
            binds = "yes" if limit.binds else "no"
            if rung is None:
                place = found.pool_at(row, 0)
                supply = int(found.snapshot.supply.promisable[place])
                lines.append(
                    (
                        SUPPLY,
                        None,
                        units(supply),
                        None,
                        units(int(found.pool_load()[place])),
                        None,
                        units(limit.leaves),
                        binds,
                    )
                )
            else:
                burst = rung.burst if rung.bursting else None
                lines.append(
                    (
                        rung.account,
                        units(rung.reserve),
                        units(rung.cap),
                        units(burst),
                        units(rung.load),
                        units(rung.held),
                        units(limit.leaves),
                        binds,
                    )
                )
        verdict, left = "", units(ladder.headroom)
        if take is not None:
            try:
                amount = to_grains(number(take), wanted.measure)
            except ValueError as trouble:
                raise invalid(f"--take {take!r}: {trouble}") from None
            admitted = ladder.headroom is None or amount <= ladder.headroom
            verdict = f"{take} would be {'admitted' if admitted else f'refused: {ladder.bound_by} leaves {left}'}"
        summary = f"{account} can take {left} {wanted.unit}; {ladder.bound_by} binds"
        return lines, summary, verdict

    lines, summary, verdict = run(rows)
    columns: tuple[str, ...] = ("limit", "reserve", "cap", "burst", "load", "held", "leaves", "binds")
    if as_csv:
        if take is not None:
            columns = (*columns, "take", "admitted")
            lines = [(*line, take, "no" if "refused" in verdict else "yes") for line in lines]
        show(columns, lines, True)
        return
    show(columns, lines, False)
    print(summary)
    if verdict:
        print(verdict)


@app.command()
def readings(product: ProductCode, month: Month, as_csv: Csv = False) -> None:
    """Every day's reading of every account."""

    def rows(tx: Any) -> list[tuple[Any, ...]]:
        first, last = parse_month(month)
        wanted = pools.product(tx, product)
        read = read_month(tx, wanted, first, last)
        lines = []
        for segment in read.segments:
            tree = segment.accounts.tree
            rows_here = [row for row in tree.rows_in_order().tolist() if segment.owner[row] >= 0]
            figures, supplies = segment.readings, {owner: segment.supply(owner) for owner in segment.pools}
            for column, day in enumerate(figures.days):
                for row in rows_here:

                    def units(grain_seconds: Any, day: Any = day) -> str:
                        return f"{units_to_micro(int(grain_seconds), day.seconds, wanted.per_unit):f}"

                    cap = figures.cap(row, column)
                    supply = int(supplies[int(segment.owner[row])][column])
                    lines.append(
                        (
                            day.date.isoformat(),
                            tree.codes[row],
                            units(figures.own[row, column]),
                            units(figures.settled.load[row, column]),
                            units(figures.settled.held[row, column]),
                            f"{to_units(int(figures.allocated.reserve[row, column]), wanted.measure):f}",
                            None
                            if cap is None
                            else f"{units_to_micro(cap, day.seconds, wanted.per_unit).normalize():f}",
                            f"{to_units(supply // day.seconds, wanted.measure):f}",
                        )
                    )
        return lines

    show(("day", "account", "own", "load", "held", "reserve", "cap", "supply"), run(rows), as_csv)


@app.command()
def statement(buyer: Annotated[str, typer.Option("--buyer")], month: Month, as_csv: Csv = False) -> None:
    """A buyer's statements: every line, and whose it is; as charged where the month is closed."""

    def rows(tx: Any) -> list[tuple[Any, ...]]:
        _, found = statements.statements(tx, COMMAND_LINE, buyer, month)
        return [tuple(row[:-1]) for each in found for row in statement_rows(each, each.seller)]

    show(COLUMNS[:-1], run(rows), as_csv)


@app.command()
def close(
    seller: Annotated[str, typer.Option("--seller", help="The seller's code.")],
    month: Month,
    as_csv: Csv = False,
    reason: Annotated[
        str, typer.Option("--reason", help="Why what was found and does not block may pass.")
    ] = "closed on the command line",
) -> None:
    """Close a seller's month: number its statements, and keep them for good; or say what stands in the way."""
    database = open_database()
    prepared = database.snapshot(closing.prepare, COMMAND_LINE, seller, month)
    for finding in prepared.findings:
        to_people.print(escape(finding.says), style="red" if finding.blocks else "yellow", soft_wrap=True)
    if prepared.blocking:
        raise typer_exit(f"{prepared.first:%B %Y} of {seller} is not closed.")
    closed = database.run(closing.close, COMMAND_LINE, prepared, reason)
    rows = [(each.seller, each.buyer, each.number, f"{each.total:f}", each.currency) for each in closed]
    show(("seller", "buyer", "number", "total", "currency"), rows, as_csv)


@app.command()
def costs(
    product: ProductCode,
    month: Month,
    as_csv: Csv = False,
    idle: Annotated[str, typer.Option("--idle", help="retained or spread; the product's choice if not said.")] = "",
) -> None:
    """What the product's pools cost, and who bears it."""

    def rows(tx: Any) -> list[tuple[Any, ...]]:
        if idle not in ("", "retained", "spread"):
            raise invalid(f"--idle {idle!r}: retained or spread.")
        first, last = parse_month(month)
        wanted = pools.product(tx, product)
        spreads = idle == "spread" or (idle == "" and wanted.spreads_idle)
        period = BillingPeriod(tx, first, last, [wanted])
        read = period.month(product)
        lines: list[tuple[str, ...]] = []
        for pool in sorted(
            read.pools, key=lambda pool: int(period.accounts.tree.depth_first[period.accounts.row_of_id[pool.owner_id]])
        ):
            owner = period.accounts.tree.codes[period.accounts.row_of_id[pool.owner_id]]
            lines.extend(
                (
                    owner,
                    bearer.account or "idle",
                    f"{units_to_micro(bearer.weight, read.seconds, wanted.per_unit):f}",
                    f"{bearer.cost:f}",
                    currency,
                )
                for currency in currencies_of(pool.lots)
                for bearer in period.bearers(read, pool, currency, spreads)
            )
        return lines

    show(("owner", "account", "held_quantity", "cost", "currency"), run(rows), as_csv)


@app.command()
def verify(as_csv: Csv = False) -> None:
    """Every counter, chain of the log, closed statement and payment that does not agree with its evidence."""
    database = open_database()
    proofs = (assignments.verify, statements.verify, payments.verify, journal.differences)
    found = [each for proof in proofs for each in database.snapshot(proof, COMMAND_LINE)]
    show(("what", "where", "found", "evidence"), found, as_csv)
    if found:
        raise typer_exit(
            f"{len(found)} {'thing does' if len(found) == 1 else 'things do'} not agree with the evidence."
        )


@app.command(context_settings={"allow_extra_args": True, "ignore_unknown_options": True})
def database(context: typer.Context) -> None:
    """Run a command while this home's database is up, as for a backup or a restore. MariaDB's own programs are told
    where it is."""
    settings = Settings.read()
    if settings.database_url is not None:
        raise typer_exit("The database is the one of FAIR_LADLE_DATABASE_URL; reach it as you do without Fair Ladle.")
    if not context.args:
        raise typer_exit("Say what to run: fair-ladle database mariadb fair_ladle")
    open_database(settings).engine.dispose()
    program, *arguments = context.args
    if Path(program).name.startswith(("mariadb", "mysql")):
        arguments.insert(0, f"--socket={OwnServer(settings.home).socket}")
    try:
        ran = subprocess.run([program, *arguments])
    except OSError as trouble:
        hint = " It is in Debian's mariadb-client." if program.startswith(("mariadb", "mysql")) else ""
        raise typer_exit(f"{program} cannot be run: {trouble.strerror}.{hint}") from None
    raise typer.Exit(ran.returncode)


@app.command()
def stop() -> None:
    """Stop the server and the database that belong to this FAIR_LADLE_HOME."""
    stopped = close_installation()
    print("stopped: " + ", ".join(stopped) if stopped else "nothing was running")


@app.command("sign-in")
def sign_in_(
    email: str,
    account: Annotated[str, typer.Option("--account", help="The account to run.")],
    name: Annotated[str, typer.Option("--name")] = "",
    end: Annotated[bool, typer.Option("--end", help="They run it no more; their sessions end.")] = False,
) -> None:
    """Let somebody sign in and run an account; asks for the password (or reads it from standard input). With --end they
    run it no more."""
    if end:
        run(lambda tx: delegating.end_delegation(tx, COMMAND_LINE, email, account))
        print(f"The delegation of {email} over {account} has ended.")
        return
    password = (
        typer.prompt("Password", hide_input=True, confirmation_prompt=True)
        if sys.stdin.isatty()
        else sys.stdin.readline().strip()
    )
    run(lambda tx: sign_in.give_sign_in(tx, COMMAND_LINE, email, name or email, account, password))
    print(f"{email} can sign in and run {account}.")


main_program: Callable[[int, Path, bool], None] | None = None
"""Serves on a port; set by the program that wires, so that commands know nothing of the web."""


ANOTHER_KEY = (
    "The newest entry of the log was written with another key than this home's log.key. Servers on one database share "
    "that file, or FAIR_LADLE_SECRET_KEY: else `verify` takes what the others write for changed."
)


@app.command()
def serve(
    port: Annotated[int, typer.Option("--port", envvar="FAIR_LADLE_PORT", min=1, max=65535)] = DEFAULT_PORT,
    demo: Annotated[bool, typer.Option("--demo", help="Load the demo first, with a time of its own.")] = False,
    fresh: Annotated[bool, typer.Option("--fresh", help="With --demo: begin the demo again.")] = False,
) -> None:
    """Serve the web application on 127.0.0.1 until Ctrl-C."""
    assert main_program is not None
    home = Settings.read().home
    make_home(home)
    _check_port(port)
    if demo and fresh:
        _begin_again()
    to_people.print("Starting the database")
    database = open_database(serves=True)
    signs = _demo(database, home) if demo else []
    link = None if demo else database.run(setup.new_link)
    if database.run(log_service.is_another_key):
        to_people.print(ANOTHER_KEY)
    database.engine.dispose()
    print(f"\nFair Ladle is at http://127.0.0.1:{port}/", flush=True)
    if link is not None:
        print("It is new. Set it up, within a day, at", flush=True)
        print(f"  http://127.0.0.1:{port}/setup/{link}", flush=True)
    if signs:
        print("Sign in as", flush=True)
        for email, password, whom in signs:
            print(f"  {email:32} {password:36} {whom}", flush=True)
    print("Ctrl-C stops it.", flush=True)
    main_program(port, home, demo)


def _demo(database: Database, home: Path) -> list[tuple[str, str, str]]:
    """The demo is there; e-mail address, password and role of those who sign in."""
    from fair_ladle.demo.load import NotADemo, prepare  # the process that serves keeps what it has imported

    try:
        return prepare(database, home, lambda what: to_people.print(what, highlight=False))
    except NotADemo as trouble:
        raise typer_exit(str(trouble)) from None


def _check_port(port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            raise typer_exit(
                f"Port {port} is in use: Fair Ladle may be running already, or another program has it. "
                "Stop that one (`./fair-ladle stop` for ours), or choose another port with FAIR_LADLE_PORT."
            ) from None


def _begin_again() -> None:
    settings = Settings.read()
    if settings.database_url is not None:
        raise typer_exit("--fresh begins a database of our own again; FAIR_LADLE_DATABASE_URL names another one.")
    server = OwnServer(settings.home)
    if (server.folder / "data").exists():
        database = open_database()
        with database.transaction() as tx:
            own_data = bool(accounts_service.ids_by_code(tx)) and not is_demo(database)
        if own_data:
            raise typer_exit("This home holds data of your own, not the demo; --fresh would throw it away.")
        database.engine.dispose()
    close_installation()
    shutil.rmtree(server.folder, ignore_errors=True)
    for kept in ("demo-sign-ins.txt", "demo-keys.txt"):
        (settings.home / kept).unlink(missing_ok=True)
    shutil.rmtree(settings.home / "demo-machines", ignore_errors=True)


HELD = "Something else is changing the same here; nothing was changed by this. Try again when it is done."


def main() -> None:
    """Run a command; what it cannot do is one message and exit 1."""
    signal.signal(signal.SIGPIPE, signal.SIG_DFL)
    try:
        # Not standing alone, the framework hands the exit code of typer.Exit back.
        sys.exit(app(standalone_mode=False))
    except (typer.Abort, KeyboardInterrupt):
        sys.exit(130)
    except Refused as refused:
        sys.exit(typer_exit(refused.problem.detail or refused.problem.title).exit_code)
    except ServerTrouble as trouble:
        sys.exit(typer_exit(str(trouble)).exit_code)
    except OutcomeUnknown:
        sys.exit(typer_exit("The connection was lost at the last moment; look whether it was done.").exit_code)
    except Again:
        sys.exit(typer_exit(HELD).exit_code)
    except sa.exc.OperationalError as trouble:
        said = HELD if code_of(trouble) in WAITED else f"The database does not answer: {trouble.orig}"
        sys.exit(typer_exit(said).exit_code)
    except Exception as wrong:
        if type(wrong).__module__.startswith(("click", "typer")):
            show_usage = getattr(wrong, "format_message", wrong.__str__)
            to_people.print(escape(show_usage()), style="red", soft_wrap=True)
            sys.exit(2)
        raise
