"""What the servers of a machine have done, for Prometheus and for the operator's page. With several worker processes
each writes files of its own into one folder, which PROMETHEUS_MULTIPROC_DIR names before anything here is imported."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from prometheus_client import REGISTRY, CollectorRegistry, Counter, Histogram, generate_latest, multiprocess
from prometheus_client.metrics_core import GaugeMetricFamily, Metric

from fair_ladle.app.plumbing.watch import Watched

FOLDER = "PROMETHEUS_MULTIPROC_DIR"
BUCKETS = (0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0)
ROUTE = ("method", "route")
SECONDS = Histogram("fair_ladle_request_seconds", "How long requests took.", ROUTE, buckets=BUCKETS)
ANSWERS = Counter("fair_ladle_answers", "Requests by the status they were answered with.", (*ROUTE, "status"))
STATEMENTS = Counter("fair_ladle_statements", "Statements sent to the database for requests.", ROUTE)
ROWS = Counter("fair_ladle_rows", "Rows read or written for requests.", ROUTE)
RETRIES = Counter("fair_ladle_retries", "Transactions of requests that were begun again.", ROUTE)
UNITS = Counter("fair_ladle_units", "Units assigned and released in requests.", ("what",))


def prepare(folder: Path) -> None:
    """An empty folder that the worker processes begun after this share."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    os.environ[FOLDER] = str(folder)


def observe(method: str, status: int, watched: Watched) -> None:
    """Count a request that was answered."""
    route = watched.route or "unknown"
    seconds, answers, statements, rows = _counted(method, route, status)
    seconds.observe(watched.seconds())
    answers.inc()
    statements.inc(watched.statements)
    rows.inc(watched.rows)
    if watched.retries:
        RETRIES.labels(method, route).inc(watched.retries)
    if status < 400:
        for what, units in watched.units.items():
            UNITS.labels(what).inc(units)


@lru_cache(4096)
def _counted(method: str, route: str, status: int) -> tuple[Histogram, Counter, Counter, Counter]:
    of_route = method, route
    answers = ANSWERS.labels(*of_route, str(status))
    return SECONDS.labels(*of_route), answers, STATEMENTS.labels(*of_route), ROWS.labels(*of_route)


def _collected() -> Iterable[Metric]:
    if FOLDER not in os.environ:
        return REGISTRY.collect()
    registry = CollectorRegistry()
    multiprocess.MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
    return registry.collect()


@dataclass(frozen=True)
class Gauge:
    """A figure as it is now, with names and values of its labels."""

    name: str
    help: str
    labels: tuple[str, ...]
    values: Sequence[tuple[tuple[str, ...], float]]


class _Given:
    """What is collected already, as a registry has it."""

    def __init__(self, found: list[Metric]):
        self.found = found

    def collect(self) -> Iterable[Metric]:
        """All of it."""
        return self.found


def exposition(gauges: Iterable[Gauge]) -> bytes:
    """Everything in Prometheus' text format, version 0.0.4."""
    found = list(_collected())
    for each in gauges:
        family = GaugeMetricFamily(each.name, each.help, labels=each.labels)
        for labels, value in each.values:
            family.add_metric(labels, value)
        found.append(family)
    return generate_latest(_Given(found))


@dataclass(frozen=True)
class RouteCost:
    """What the requests of a route have cost since the server began: seconds at the middle and at the 95th percentile,
    to the next bucket; statements on average; how often it was refused or failed (4xx, 5xx) and begun again."""

    method: str
    route: str
    count: int
    middle: float
    p95: float
    statements: float
    refused: int
    failed: int
    retries: int


def routes() -> list[RouteCost]:
    """What each route has cost, the most asked for first."""
    samples: dict[str, dict[tuple[str, str], dict[str, float]]] = {}
    for metric in _collected():
        for sample in metric.samples:
            labels = dict(sample.labels)
            if "route" not in labels:
                continue
            key = (labels.pop("method"), labels.pop("route"))
            inner = samples.setdefault(sample.name, {}).setdefault(key, {})
            label = labels.get("le") or labels.get("status") or ""
            inner[label] = inner.get(label, 0.0) + sample.value
    counts = samples.get("fair_ladle_request_seconds_count", {})
    found = []
    for key, count in counts.items():
        buckets = samples["fair_ladle_request_seconds_bucket"][key]
        answers = samples.get("fair_ladle_answers_total", {}).get(key, {})
        asked = int(count[""])
        if asked:
            found.append(
                RouteCost(
                    *key,
                    asked,
                    _quantile(buckets, asked, 0.5),
                    _quantile(buckets, asked, 0.95),
                    samples["fair_ladle_statements_total"].get(key, {}).get("", 0.0) / asked,
                    int(sum(value for status, value in answers.items() if status.startswith("4"))),
                    int(sum(value for status, value in answers.items() if status.startswith("5"))),
                    int(samples.get("fair_ladle_retries_total", {}).get(key, {}).get("", 0.0)),
                )
            )
    return sorted(found, key=lambda each: -each.count)


def _quantile(buckets: dict[str, float], count: int, part: float) -> float:
    """The upper bound of the bucket in which a quantile lies."""
    bounds = sorted((float(bound), value) for bound, value in buckets.items())
    return next((bound for bound, value in bounds if value >= count * part), float("inf"))


def units() -> dict[str, int]:
    """Units assigned and released since the server began."""
    return {
        sample.labels["what"]: int(sample.value)
        for metric in _collected()
        for sample in metric.samples
        if sample.name == "fair_ladle_units_total"
    }
