"""An object store as it is asked: pages added up by their first part, and what one that is broken or hostile does."""

from __future__ import annotations

from ipaddress import ip_network

import pytest

from fair_ladle.connectors import object_store
from fair_ladle.connectors.object_store import ObjectStore
from fair_ladle.connectors.storage import Found, NotReached, Trouble
from tests.connectors.object_stand_in import BUCKET, KEY, REGION, SECRET, Answer, page
from tests.connectors.object_stand_in import object_store as serving

HERE = [ip_network("127.0.0.0/8")]
OBJECTS = {
    "teams/ada/a b.txt": 100,
    "teams/ada/deep/er/ä.bin": 23,
    "teams/ada-2/x": 5,
    "teams/ben/1": 7,
    "teams/ben/2": 0,
    "teams/ben/3": 2**40,
    "teams/readme": 9,
    "other/ada/x": 1000,
}


def read(port: int, bucket: str = BUCKET, secret: str = SECRET, prefix: str = "teams/") -> list[Found | Trouble]:
    store = ObjectStore("127.0.0.1", port, "none", REGION, bucket, prefix, KEY, secret, HERE)
    return list(store.usage([], lambda: True))


def test_sizes_are_added_up_by_the_first_part_of_a_key_over_all_pages() -> None:
    with serving(OBJECTS) as port:
        assert read(port) == [Found("ada-2", 5), Found("ada", 123), Found("ben", 2**40 + 7), Found(".", 9)]
        assert read(port, prefix="") == [Found("other", 1000), Found("teams", 2**40 + 144)]
        assert read(port, prefix="nothing") == []


@pytest.mark.parametrize(
    ("wanted", "says"), [({"secret": "guessed"}, "refuses: Not signed"), ({"bucket": "none-such"}, "No such bucket")]
)
def test_who_is_refused_is_told_why(wanted: dict[str, str], says: str) -> None:
    with serving(OBJECTS) as port, pytest.raises(NotReached, match=says) as refused:
        read(port, **wanted)
    assert "guessed" not in str(refused.value)


def at_first(content: bytes) -> Answer:
    return lambda token: content if not token else None


@pytest.mark.parametrize(
    ("instead", "says"),
    [
        (at_first(b"<html>Welcome</html>"), "something else"),
        (at_first(b"<ListBucketResult><Contents>"), "something else than a listing"),
        (at_first(page(["teams/a/1"], {"teams/a/1": 1}).replace(b"<Size>1<", b"<Size>many<")), "something else"),
        (lambda token: page(sorted(OBJECTS), OBJECTS), "out of order"),
        (at_first(b"x" * (object_store.MOST_PAGE_BYTES + 1)), "does not end"),
    ],
)
def test_what_is_no_listing_says_nothing_of_anybody(instead: Answer, says: str) -> None:
    with serving(OBJECTS, instead) as port, pytest.raises(NotReached, match=says):
        read(port, prefix="")


def test_absurd_sizes_are_told_and_the_others_counted() -> None:
    with serving({"a/1": 5, "b/1": -3, "c/1": 2**61, "d/1": 6}) as port:
        found = read(port, prefix="")
    assert [each for each in found if isinstance(each, Found)] == [Found("a", 5), Found("d", 6)]
    assert {each.subject for each in found if isinstance(each, Trouble)} == {"b", "c"}


def test_one_that_is_gone_or_of_a_network_nobody_listed_is_not_reached() -> None:
    with serving(OBJECTS) as port:
        pass
    with pytest.raises(NotReached, match="cannot be reached"):
        read(port)
    with pytest.raises(NotReached, match="something else"):
        list(ObjectStore("no/host at all", port, "none", REGION, BUCKET, "", KEY, SECRET, HERE).usage([], lambda: True))
    store = ObjectStore("127.0.0.1", port, "none", REGION, BUCKET, "", KEY, SECRET, [])
    with pytest.raises(NotReached, match="FAIR_LADLE_OUTBOUND"):
        list(store.usage([], lambda: True))
