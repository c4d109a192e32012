"""Three servers at three nodes of a cluster, all of which write: they start at once on nothing, and under load a node is
killed, then a server. Nothing that was answered is lost, done twice or past a limit, and every node says the same."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography.fernet import Fernet

from tests.app.test_survival import KINDS, Home, Load, fill, nothing_is_lost_or_doubled
from tests.cluster.nodes import Cluster
from tests.conftest import folder_in_memory

LEAST = 3
"""So many of each kind have to be done: three nodes and their load share two cores."""


@pytest.fixture
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cluster]:
    with folder_in_memory(tmp_path_factory) as folder:
        found = Cluster(folder)
        yield found
        found.end()


@pytest.fixture
def homes(cluster: Cluster, tmp_path: Path) -> Iterator[list[Home]]:
    secret = Fernet.generate_key().decode()
    found = [Home(tmp_path / node.folder.name, node.url(), secret) for node in cluster.nodes]
    for home in found:
        home.settings.home.mkdir()
        home.serve(waits=False)
    for home in found:
        home.comes_up()
    fill(found[0].settings, tmp_path / "intake")
    yield found
    for home in found:
        if home.process:
            home.process.kill()


def test_nothing_breaks_at_three_nodes_and_through_kills(cluster: Cluster, homes: list[Home]) -> None:
    load = Load(*homes)
    for thread in load.threads:
        thread.start()
    try:
        undisturbed = load.run(20, lambda answers: answers["200"] > 100)
        cluster.nodes[1].end(signal.SIGKILL)
        without = load.run(20)
        cluster.nodes[1].come_back(cluster.group)
        assert homes[2].process is not None
        homes[2].process.kill()
        homes[2].process.wait()
        homes[2].serve()
        recovered = load.run(10, lambda answers: min(load.done[kind] for kind in KINDS) >= LEAST)
        print("undisturbed", dict(undisturbed), "a node killed", dict(without), "recovered", dict(recovered))
    finally:
        load.stop.set()
        for thread in load.threads:
            thread.join()
    for answers in (undisturbed, recovered):
        assert answers["unexpected"] == 0 and answers["200"] > 50, answers
    assert without["unexpected"] == 0 and without["200"] > 20, "two of three nodes go on"
    assert min(load.done[kind] for kind in KINDS) >= LEAST, load.done
    for home in homes:
        nothing_is_lost_or_doubled(home.settings, load)
