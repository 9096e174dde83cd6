"""A backup holds everything, and gives it back; what is damaged, or would overwrite something, changes nothing."""

import stat
import tarfile
import tempfile
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from herald_launch.backup import DUMP, backup, restore
from herald_launch.instance import DATABASE, Instance
from herald_launch.steps import StepFailed

IMAGE = bytes(range(256)) * 5000


@pytest.fixture(scope="module", autouse=True)
def _own_database() -> Iterator[None]:
    """What the tests' own database is called by must not lead here."""
    with pytest.MonkeyPatch.context() as patched:
        for name in ("DATABASE_URL", "HERALD_IMAGES_DIR", "HERALD_OUTPUTS_DIR", "HERALD_SIGNING_KEY_FILE"):
            patched.delenv(name, raising=False)
        yield


@pytest.fixture(scope="module")
def folder() -> Iterator[Path]:
    with tempfile.TemporaryDirectory(prefix="herald-backup-", dir="/var/tmp") as name:
        Path(name).chmod(0o755)
        yield Path(name)


@pytest.fixture(scope="module")
def kept(folder: Path) -> Iterator[Instance]:
    """An installation with a table, an image and keys, which runs no longer."""
    instance = Instance(folder / "one")
    instance.prepare_folders()
    instance.cluster.start()
    instance.cluster.ensure_database(DATABASE)
    with psycopg.connect(instance.cluster.url(DATABASE), autocommit=True) as connection:
        connection.execute("CREATE TABLE thing (id int PRIMARY KEY, name text)")
        # a role that no other cluster has
        connection.execute("CREATE ROLE herald_limited NOLOGIN")
        connection.execute("GRANT SELECT ON thing TO herald_limited")
        connection.execute("ALTER TABLE thing ENABLE ROW LEVEL SECURITY")
        connection.execute("CREATE POLICY within_limits ON thing USING (id < 10)")
        connection.execute("INSERT INTO thing SELECT n, 'thing ' || n FROM generate_series(1, 5000) n")
    (instance.folder / "images" / "ab").mkdir(parents=True)
    (instance.folder / "images" / "ab" / "abcd").write_bytes(IMAGE)
    (instance.folder / "signing-key.pem").write_text("a key")
    instance.secret_key()
    instance.cluster.stop()
    yield instance
    instance.cluster.destroy()


@pytest.fixture(scope="module")
def saved(kept: Instance, folder: Path) -> Path:
    file = folder / "one.tar"
    backup(kept, file)
    return file


def test_everything_comes_back_into_an_empty_folder(saved: Path, kept: Instance, folder: Path) -> None:
    assert stat.S_IMODE(saved.stat().st_mode) == 0o600
    assert not kept.cluster.is_up(), "it is left as it was found"
    other = Instance(folder / "two")
    restore(other, saved)
    try:
        other.cluster.start()
        with psycopg.connect(other.cluster.url(DATABASE)) as connection:
            row = connection.execute("SELECT count(*), max(name) FROM thing").fetchone()
        assert row == (5000, "thing 999")
        assert (other.folder / "images" / "ab" / "abcd").read_bytes() == IMAGE
        assert other.secret_key() == kept.secret_key()
        assert (other.folder / "signing-key.pem").read_text() == "a key"
        with pytest.raises(StepFailed, match="there already"):
            restore(other, saved)
        for name in ("images", "secret-key", "signing-key.pem"):
            (other.folder / name).rename(other.folder / f"{name}.away")
        with pytest.raises(StepFailed, match="not empty"):
            restore(other, saved)
    finally:
        other.cluster.destroy()


def test_no_file_is_overwritten(saved: Path, kept: Instance) -> None:
    before = saved.read_bytes()
    with pytest.raises(StepFailed, match="there already"):
        backup(kept, saved)
    assert saved.read_bytes() == before


@pytest.fixture(scope="module")
def empty(folder: Path) -> Iterator[Instance]:
    """A folder in which nothing is but a database without a table."""
    instance = Instance(folder / "three")
    instance.prepare_folders()
    instance.cluster.start()
    yield instance
    instance.cluster.destroy()


@pytest.mark.parametrize("damage", ["cut off", "a byte", "a file less", "no archive", "not there"])
def test_a_damaged_backup_changes_nothing(saved: Path, empty: Instance, folder: Path, damage: str) -> None:
    broken, whole = folder / "broken.tar", saved.read_bytes()
    if damage == "cut off":
        broken.write_bytes(whole[: len(whole) // 2])
    elif damage == "a byte":
        place = whole.index(IMAGE) + 1000
        broken.write_bytes(whole[:place] + b"x" + whole[place + 1 :])
    elif damage == "a file less":
        with tarfile.open(saved) as old, tarfile.open(broken, "w") as new:
            for member in old.getmembers():
                if member.name != "signing-key.pem":
                    new.addfile(member, old.extractfile(member))
    elif damage == "no archive":
        broken.write_bytes(b"not a backup at all")
    with pytest.raises(StepFailed, match=r"damaged|no whole backup"):
        restore(empty, broken)
    assert not (empty.folder / "images").exists() and not (empty.folder / DUMP).exists()
    with psycopg.connect(empty.cluster.url(DATABASE)) as connection:
        assert connection.execute("SELECT to_regclass('thing')").fetchone() == (None,)
    broken.unlink(missing_ok=True)
