"""The allocation grid at 5,000 accounts × 9 pools with every row open, in Debian's Chromium, against what it must
keep to."""

from __future__ import annotations

import json
import socket
import statistics
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import uvicorn
from playwright.sync_api import CDPSession, Page, sync_playwright

from bench.home import new_database, server
from bench.loading import assignments, intake_of
from bench.measured import Measure
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import SheetTable
from fair_ladle.main import create_app

CLIENTS, POOLS = 1000, 9  # each client with four departments
PASSWORD = "only-for-this-measurement"
ROW_PIXELS = 35
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
WHEN_ROWS_CAME = """
  new MutationObserver((_, watch) => {
    if (document.querySelector('.arow')) { watch.disconnect(); requestAnimationFrame(() => { window.firstRows = performance.now() }) }
  }).observe(document, {childList: true, subtree: true})
"""
SCROLL = """([perFrame, frames]) => new Promise((done) => {
  const grid = document.querySelector('.agrid')
  let left = frames
  const step = () => { grid.scrollTop += perFrame; if (--left) requestAnimationFrame(step); else done() }
  requestAnimationFrame(step)
})"""
WATCH_FOCUS = """() => {
  const watched = window.waits !== undefined
  window.waits = []
  if (watched) return
  let pressed = null
  addEventListener('keydown', (event) => { pressed = event.timeStamp }, true)
  addEventListener('focusin', () => { if (pressed !== null) { window.waits.push(performance.now() - pressed); pressed = null } })
}"""

BARE = (
    """() => {
  // The rows as they are drawn, moved and refilled by hand: no framework, no state, nothing fetched.
  const grid = document.querySelector('.agrid')
  const drawn = [...grid.querySelectorAll('.arow')].map((row) => row.cloneNode(true))
  const height = %d, count = 5001, many = drawn.length
  const bare = document.createElement('div')
  bare.className = grid.className
  bare.style.cssText = `${grid.style.cssText}; height:${grid.clientHeight}px; width:${grid.clientWidth}px; overflow:auto; position:relative`
  const body = document.createElement('div')
  body.style.cssText = `position:relative; height:${count * height}px`
  bare.append(body)
  grid.replaceWith(bare)
  const shown = new Map()
  const cells = (row) => [...row.querySelectorAll('[role=gridcell]')]
  const draw = () => {
    const first = Math.max(0, Math.floor(bare.scrollTop / height) - 2)
    for (const [at, row] of shown) if (at < first || at >= first + many) { row.remove(); shown.delete(at) }
    for (let at = first; at < Math.min(count, first + many); at++) {
      if (shown.has(at)) continue
      const row = drawn[at %% many].cloneNode(true)
      row.style.cssText = `position:absolute; top:0; left:0; height:${height}px; transform:translateY(${at * height}px)`
      body.append(row)
      shown.set(at, row)
    }
  }
  draw()
  bare.addEventListener('scroll', draw)
  let [row, column] = [1, 0]
  const go = (on) => {
    const cell = cells(shown.get(row))[column]
    cell.classList.toggle('sel', on)
    cell.tabIndex = on ? 0 : -1
    if (on) cell.focus({preventScroll: true})
  }
  const step = { ArrowDown: [1, 0], ArrowUp: [-1, 0], ArrowRight: [0, 1], ArrowLeft: [0, -1] }
  go(true)
  addEventListener('keydown', (event) => {
    const [down, right] = step[event.key] ?? [0, 0]
    go(false)
    row = Math.max(0, row + down)
    column = Math.max(0, Math.min(8, column + right))
    const top = row * height, end = bare.scrollTop + bare.clientHeight - 2 * height
    if (top > end) bare.scrollTop += top - end
    if (top < bare.scrollTop) bare.scrollTop = top
    if (!shown.has(row)) draw()
    go(true)
  })
}"""
    % ROW_PIXELS
)
SPEEDS, FRAMES, WARM, TURNS = (600, 3600), 180, 3, 7
KEYS = ["ArrowDown"] * 40 + ["ArrowRight"] * 8 + ["ArrowUp"] * 40


@contextmanager
def _serving() -> Iterator[str]:
    with server() as home:
        database = new_database(home)
        everything = intake_of(CLIENTS, POOLS)
        everything.add(
            "assignments",
            SheetTable(
                "assignments", ["account", "product", "subject", "from", "to"], assignments(CLIENTS, POOLS, 100_000)
            ),
        )
        database.run(data_import.load, COMMAND_LINE, everything)
        database.run(sign_in.give_sign_in, COMMAND_LINE, "msp@x.example", "Ines Vane", "MSP", PASSWORD)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        web = uvicorn.Server(uvicorn.Config(create_app(database), host="127.0.0.1", port=port, log_level="warning"))
        thread = threading.Thread(target=web.run)
        thread.start()
        while not web.started:
            time.sleep(0.02)
        try:
            yield f"http://127.0.0.1:{port}"
        finally:
            web.should_exit = True
            thread.join()
            database.engine.dispose()


def _main_thread_seconds(session: CDPSession) -> float:
    return next(
        each["value"] for each in session.send("Performance.getMetrics")["metrics"] if each["name"] == "TaskDuration"
    )


def _fetch_ahead(page: Page, rows: int) -> None:
    """Have the rows below here: what a step restyles is told apart from rows that come from the server meanwhile."""
    page.evaluate("by => { document.querySelector('.agrid').scrollTop += by }", rows * ROW_PIXELS)
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(500)
    page.evaluate("by => { document.querySelector('.agrid').scrollTop -= by }", rows * ROW_PIXELS)
    page.wait_for_timeout(500)


def _restyled(page: Page, session: CDPSession, steps: int) -> list[int]:
    """Elements whose style was worked out anew, for each step of a row."""
    events: list[dict] = []
    session.on("Tracing.dataCollected", lambda data: events.extend(data["value"]))
    ended: list[bool] = []
    session.on("Tracing.tracingComplete", lambda _: ended.append(True))
    session.send(
        "Tracing.start",
        {
            "transferMode": "ReportEvents",
            "traceConfig": {"includedCategories": ["devtools.timeline", "blink.user_timing"]},
        },
    )
    for step in range(steps):
        page.evaluate(
            "(n) => new Promise((done) => "
            "{ performance.mark('step-' + n); document.querySelector('.agrid').scrollTop += %d;"
            " requestAnimationFrame(() => requestAnimationFrame(() => requestAnimationFrame(done))) })" % ROW_PIXELS,
            step,
        )
    session.send("Tracing.end")
    while not ended:
        page.wait_for_timeout(20)
    marks = sorted(each["ts"] for each in events if each.get("name", "").startswith("step-"))
    counts = [0] * len(marks)
    for each in events:
        if each.get("name") == "UpdateLayoutTree":
            after = [place for place, at in enumerate(marks) if at <= each["ts"]]
            if after:
                counts[after[-1]] += each["args"].get("elementCount", 0)
    return counts


@dataclass
class _Shown:
    """A page with a grid in it, and its session for what the main thread did."""

    page: Page
    session: CDPSession
    frames: dict[int, list[float]] = field(default_factory=lambda: {speed: [] for speed in SPEEDS})
    waits: list[float] = field(default_factory=list)

    def scroll(self, speed: int, back: bool, counts: bool) -> None:
        """Note the milliseconds of the main thread a frame takes while it scrolls, at pixels a second."""
        self.page.bring_to_front()
        before = _main_thread_seconds(self.session)
        self.page.evaluate(SCROLL, [speed / 60 * (-1 if back else 1), FRAMES])
        if counts:
            self.frames[speed].append((_main_thread_seconds(self.session) - before) / FRAMES * 1000)

    def press(self) -> None:
        """Note the milliseconds from each key to the focus on its cell."""
        self.page.bring_to_front()
        self.waits += _waits(self.page)


def _in_turns(ours: _Shown, bare: _Shown) -> None:
    """Scroll both there and back and walk them by keys, each in turn: a machine's moods are shared, scripts are compiled
    and rows are here before it counts."""
    for speed in SPEEDS:
        for turn in range(WARM + TURNS):
            for each in (ours, bare):
                each.scroll(speed, turn % 2 == 1, turn >= WARM)
    for each in (ours, bare):
        each.page.evaluate("document.querySelector('.agrid').scrollTop = 0")
        each.page.wait_for_timeout(500)
    ours.page.bring_to_front()
    ours.page.locator(".arow [role=gridcell]").first.click()
    for _ in range(3):
        for each in (ours, bare):
            each.press()


def _waits(page: Page) -> list[float]:
    """Milliseconds from a key to the focus on its cell."""
    page.evaluate(WATCH_FOCUS)
    for key in KEYS:
        page.keyboard.press(key)
        page.wait_for_timeout(30)
    waits: list[float] = page.evaluate("window.waits")
    return waits


def _quantile(values: list[float], share: float) -> float:
    return sorted(values)[min(len(values) - 1, int(len(values) * share))]


def measure() -> list[Measure]:
    """First rows, size of the page, restyling, scrolling and keys, each beside its limit."""
    if not (Path(__file__).parents[1] / "web" / "dist" / "index.html").exists():
        raise SystemExit("The front end is not built: run ./start or ./check once.")
    with _serving() as address, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        page = browser.new_context(viewport={"width": 1440, "height": 900}, base_url=address).new_page()
        page.goto("/today")
        page.get_by_label("E-mail address").fill("msp@x.example")
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        page.get_by_role("navigation", name="Screens").wait_for()
        page.add_init_script(WHEN_ROWS_CAME)
        first, answer = [], []
        for _ in range(5):
            page.goto("/allocations?open=*&pools=all")
            while not page.evaluate("window.firstRows"):
                page.wait_for_timeout(20)
            first.append(page.evaluate("window.firstRows"))
            answer.append(
                page.evaluate(
                    "async () => "
                    "{ const begin = performance.now(); await (await fetch('/api/allocations')).json(); return performance.now() - begin }"
                )
            )
        rows = json.loads(
            page.evaluate("JSON.stringify(Number(document.querySelector('.agrid').getAttribute('aria-rowcount')) - 1)")
        )
        nodes = page.evaluate("document.querySelectorAll('*').length")
        session = page.context.new_cdp_session(page)
        session.send("Performance.enable")
        page.wait_for_timeout(1000)
        other = page.context.new_page()
        other.goto("/allocations?open=*&pools=all")
        other.locator(".arow").nth(5).wait_for()
        other.wait_for_timeout(1000)
        other.evaluate(BARE)
        others = other.context.new_cdp_session(other)
        others.send("Performance.enable")
        ours, bare = _Shown(page, session), _Shown(other, others)
        _in_turns(ours, bare)
        page.bring_to_front()
        _fetch_ahead(page, 80)
        restyled = _restyled(page, session, 30)
        browser.close()
    limit = lambda value, most, unit: (f"{value:,.1f} {unit}", "at most", f"{most:,} {unit}", f"{value / most:.2f}")  # noqa: E731
    beside = lambda ours, theirs: (f"{ours:.1f} ms", "the same rows bare", f"{theirs:.1f} ms", f"{ours / theirs:.2f}")  # noqa: E731

    def in_pairs(mine: list[float], theirs: list[float]) -> tuple[str, str, str, str]:
        """Medians, and that of the ratios of each turn: both of a turn met the machine in one mood."""
        ours, bare, *_ = (f"{statistics.median(each):.1f} ms" for each in (mine, theirs))
        ratio = statistics.median(one / other for one, other in zip(mine, theirs, strict=True))
        return ours, "the same rows bare, in turns", bare, f"{ratio:.2f}"

    size = f"grid, {rows:,} rows × {POOLS} pools"
    return [
        Measure(f"{size}: first rows", *limit(min(first), 1500, "ms")),
        Measure(
            f"{size}: first rows",
            f"{min(first):.0f} ms",
            "its answer alone, fetched again",
            f"{min(answer):.0f} ms",
            f"{min(first) / min(answer):.2f}",
        ),
        Measure(f"{size}: elements in the page", *limit(nodes, 2000, "")),
        Measure(f"{size}: restyled per row step, most of {len(restyled)}", *limit(max(restyled), 100, "")),
        *(
            Measure(
                f"{size}: main thread per frame at {speed:,} px/s",
                *in_pairs(ours.frames[speed], bare.frames[speed]),
            )
            for speed in SPEEDS
        ),
        *(
            Measure(
                f"{size}: key to focus, {name} of {len(ours.waits)}",
                *beside(*(_quantile(each.waits, share) for each in (ours, bare))),
            )
            for name, share in (("half", 0.5), ("p95", 0.95))
        ),
    ]
