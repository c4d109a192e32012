"""Storage systems as they are: a Dovecot of our own on loopback, folders with links and holes, and what goes wrong there."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from ipaddress import ip_network
from pathlib import Path

import pytest

from fair_ladle.connectors import file_trees, mail_store
from fair_ladle.connectors.file_trees import FileTree
from fair_ladle.connectors.mail_store import ImapStore
from fair_ladle.connectors.storage import Found, NotReached, Trouble

HERE = [ip_network("127.0.0.0/8")]


def always() -> bool:
    return True


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


CONFIG = """
base_dir = {base}/run
state_dir = {base}/state
log_path = {base}/log
listen = 127.0.0.1
protocols = imap
ssl = no
disable_plaintext_auth = no
auth_mechanisms = plain login
auth_master_user_separator = *
default_internal_user = {user}
default_internal_group = {group}
default_login_user = {user}
mail_location = maildir:~/Maildir
mail_plugins = quota
first_valid_uid = 1
service imap-login {{
  chroot =
  inet_listener imap {{
    port = {port}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
service anvil {{
  chroot =
}}
service stats {{
  chroot =
}}
passdb {{
  driver = static
  args = password=master-secret userdb_admin=yes
  master = yes
  result_success = continue
}}
passdb {{
  driver = passwd-file
  args = scheme=PLAIN username_format=%u {base}/users
}}
userdb {{
  driver = static
  args = uid={uid} gid={gid} home={base}/mail/%u
}}
protocol imap {{
  mail_plugins = quota imap_quota
}}
plugin {{
  quota = count:User quota:ns=
  quota_vsizes = yes
  quota_set = dict:file:{base}/mail/%u/limits
  quota_rule = *:storage=2M
}}
"""


@pytest.fixture(scope="module")
def dovecot(tmp_path_factory: pytest.TempPathFactory) -> Iterator[int]:
    if shutil.which("dovecot", path="/usr/sbin:/usr/bin") is None:
        pytest.fail("dovecot-imapd is missing; ./check installs it")
    base, port = Path("/tmp") / f"fair-ladle-dovecot-{os.getpid()}", free_port()
    base.mkdir()
    is_root = os.geteuid() == 0
    uid, gid = (65534, 65534) if is_root else (os.geteuid(), os.getegid())
    for name in ("run", "state", "mail"):
        (base / name).mkdir()
    os.chown(base / "mail", uid, gid)
    base.chmod(0o755)
    (base / "users").write_text("ada:{PLAIN}x\nben:{PLAIN}x\n")
    user, group = ("nobody", "nogroup") if is_root else (os.environ.get("USER", "nobody"), "users")
    (base / "conf").write_text(CONFIG.format(base=base, port=port, uid=uid, gid=gid, user=user, group=group))
    server = subprocess.Popen(["/usr/sbin/dovecot", "-F", "-c", str(base / "conf")])
    for _ in range(100):
        with socket.socket() as found:
            if found.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.1)
    yield port
    server.terminate()
    server.wait(10)
    shutil.rmtree(base, ignore_errors=True)


def store(port: int, password: str = "master-secret") -> ImapStore:
    return ImapStore("127.0.0.1", port, "steward", password, "none", HERE)


def test_mailboxes_are_read_and_limited(dovecot: int) -> None:
    found = list(store(dovecot).usage(["ada", "ben"], always))
    assert [(each.subject, each.limit) for each in found if isinstance(each, Found)] == [
        ("ada", 2 * 1024**2),
        ("ben", 2 * 1024**2),
    ], found
    assert list(store(dovecot).set_limits([("ada", 5 * 10**6)], always)) == []
    kept = Path(f"/tmp/fair-ladle-dovecot-{os.getpid()}/mail/ada/limits").read_text().split()
    assert kept == ["priv/quota/limit/storage", "4883"], "KiB, never less than was asked for"


def test_a_mailbox_that_cannot_be_read_is_told_and_the_others_go_on(dovecot: int) -> None:
    found = list(store(dovecot).usage(["ada", "with space", "zoë", "ben"], always))
    assert [type(each) for each in found] == [Found, Trouble, Trouble, Found]
    with pytest.raises(NotReached, match="letters that IMAP does not take"):
        list(store(dovecot, "schlüssel").usage(["ada"], always))
    assert all(isinstance(each, Trouble) for each in store(dovecot, "wrong").usage(["ada"], always))
    assert [each.subject for each in store(dovecot, "wrong").set_limits([("ada", 1)], always)] == ["ada"]
    asked = iter([True, False])
    assert len(list(store(dovecot).usage(["ada", "ben"], lambda: next(asked)))) == 1, "told to stop"


def test_a_server_that_is_gone_or_says_nothing_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(NotReached, match="cannot be reached"):
        list(store(free_port()).usage(["ada"], always))
    with pytest.raises(NotReached, match="FAIR_LADLE_OUTBOUND"):
        list(ImapStore("127.0.0.1", 143, "steward", "x", "none", []).usage(["ada"] * 3, always))
    monkeypatch.setattr(mail_store, "TIMEOUT_SECONDS", 0.2)
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        with pytest.raises(NotReached):
            list(store(silent.getsockname()[1]).usage(["ada", "ben", "cleo"], always))


def sizes(tree: FileTree) -> dict[str, int]:
    found = list(tree.usage([], always))
    assert all(isinstance(each, Found) for each in found), found
    return {each.subject: each.bytes for each in found if isinstance(each, Found)}


@pytest.fixture
def root(tmp_path: Path) -> Path:
    root = tmp_path / "share"
    for name, size in (("ada/mail/1", 10_000), ("ada/notes", 5_000), ("ben/deep/er/still", 20_000)):
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_bytes(os.urandom(size))
    return root


def blocks(*paths: Path) -> int:
    return sum(path.stat().st_blocks * 512 for path in paths)


def test_a_tree_is_added_up_as_it_lies_on_the_disk(root: Path, tmp_path: Path) -> None:
    os.link(root / "ada/notes", root / "ben/same")
    (root / "ada/loop").symlink_to(root / "ada")
    (root / "outside").symlink_to("/usr")
    (root / "ben/big").symlink_to("/etc/passwd")
    with (root / "ben/hole").open("wb") as file:
        file.truncate(10**9)
    os.mkfifo(root / "ben/pipe")
    found = sizes(FileTree(root, [tmp_path]))
    ada = blocks(root / "ada/mail/1", root / "ada/notes")
    ben = blocks(root / "ben/deep/er/still", root / "ben/hole")
    assert found == {"ada": ada, "ben": ben} and ben < 10**6


def test_a_scan_between_looks_only_where_entries_changed(root: Path, tmp_path: Path) -> None:
    memory = tmp_path / "kept" / "tree.npz"
    first = sizes(FileTree(root, [tmp_path], memory))
    (root / "ada/more").write_bytes(os.urandom(30_000))
    (root / "ben/deep/er/still").write_bytes(os.urandom(90_000))
    (root / "ben").rename(root / "benedict")
    found = sizes(FileTree(root, [tmp_path], memory, full=False))
    assert found["ada"] == first["ada"] + blocks(root / "ada/more")
    assert found["benedict"] == first["ben"], "what grew in place comes with the next full scan"
    assert sizes(FileTree(root, [tmp_path], memory))["benedict"] == blocks(root / "benedict/deep/er/still")
    assert b"benedict" not in memory.read_bytes() and b"still" not in memory.read_bytes()


def test_a_scan_that_is_stopped_goes_on_from_there(root: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(file_trees, "AT_A_TIME", 2)
    memory, left = tmp_path / "tree.npz", iter([True, True, False])
    whole = sizes(FileTree(root, [tmp_path]))
    assert len(list(FileTree(root, [tmp_path], memory).usage([], lambda: next(left)))) < len(whole)
    assert memory.exists() and sizes(FileTree(root, [tmp_path], memory, full=False)) == whole


def test_a_root_is_one_that_is_allowed_and_there(root: Path, tmp_path: Path) -> None:
    for wrong, why in (
        (root, "none of the roots"),
        (tmp_path / "gone", "not there"),
        (root / "ada/notes", "no folder"),
    ):
        allowed = [tmp_path / "other"] if wrong is root else [tmp_path]
        with pytest.raises(NotReached, match=why):
            list(FileTree(wrong, allowed).usage([], always))
    (tmp_path / "circle").symlink_to(tmp_path / "circle")
    with pytest.raises(NotReached, match="circle"):
        list(FileTree(tmp_path / "circle", [tmp_path]).usage([], always))
    (tmp_path / "way-out").symlink_to("/etc")
    with pytest.raises(NotReached, match="none of the roots"):
        list(FileTree(tmp_path / "way-out", [tmp_path]).usage([], always))
