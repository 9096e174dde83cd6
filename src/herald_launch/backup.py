"""`./herald backup` and `./herald restore`: the database, images, outputs and keys of an installation in one file.

The file is a tar archive. The database is dumped first, as of one moment; files that come in meanwhile are only more
than it names. Its last member lists every other with its size and SHA-256, and nothing is restored before all of them
agree. It holds the keys that sign images and sessions, so only its owner may read it.
"""

import hashlib
import json
import os
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit, urlunsplit

import psycopg

from herald_launch.install import postgres_bin
from herald_launch.instance import DATABASE, Instance
from herald_launch.steps import StepFailed, say
from herald_launch.supervise import supervisor_pid

FORMAT = 1
#: without roles, which another cluster lacks: the next start gives the limited one what it needs
_BARE = ("--no-owner", "--no-privileges")
DUMP, LIST = "database.dump", "contents.json"
#: what is kept beside the database, by the variable that says where it is elsewhere
FILES = {
    "images": "HERALD_IMAGES_DIR",
    "outputs": "HERALD_OUTPUTS_DIR",
    "signing-key.pem": "HERALD_SIGNING_KEY_FILE",
    "secret-key": "",
    "fleet.json": "",
    "fleet-memory.jsonl": "",
}


def backup(instance: Instance, to: Path) -> None:
    """Write everything that an installation keeps into a file, while it runs or not.

    Raises:
        StepFailed: the file is there already, the database cannot be reached, or there is no room.
    """
    if to.exists():
        raise StepFailed(f"{to} is there already; name another file")
    part = to.with_name(to.name + ".part")
    with _database_of(instance) as url, tempfile.TemporaryDirectory(dir=to.resolve().parent) as folder:
        dump = Path(folder) / DUMP
        say("dumping the database")
        _postgres("pg_dump", url, "--format=custom", *_BARE, "--file", str(dump))
        kept: dict[str, Any] = {}
        try:
            with os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
                with tarfile.open(fileobj=file, mode="w") as archive:
                    for name, path in [(DUMP, dump), *_files_of(instance)]:
                        kept[name] = _sums(path)
                        archive.add(path, arcname=name, recursive=False)
                    _add_list(archive, Path(folder), kept)
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            part.unlink(missing_ok=True)
            raise StepFailed(f"writing {part}: {error}") from error
    part.rename(to)
    size = sum(m["size"] for m in kept.values())
    say(f"{to}: the database and {len(kept) - 1} files, {size / 1e6:,.1f} MB")
    say("it holds keys; keep it where only you can read it")


def restore(instance: Instance, file: Path) -> None:
    """Put everything back into a data folder in which nothing is.

    Raises:
        StepFailed: the file is none of ours or damaged, or there is something that it would overwrite.
    """
    if supervisor_pid(instance) is not None:
        raise StepFailed("it runs; end it with ./herald stop, and restore into another folder with --data")
    instance.prepare_folders()
    for name in FILES:
        if _place(instance, name).exists():
            raise StepFailed(f"{_place(instance, name)} is there already; restore into an empty folder with --data")
    with _database_of(instance) as url:
        if _has_tables(url):
            raise StepFailed("the database is not empty; restore into an empty folder with --data")
        with tempfile.TemporaryDirectory(dir=instance.folder) as name:
            folder = Path(name)
            say(f"checking {file}")
            _unpack(file, folder)
            say("restoring the database")
            _postgres("pg_restore", url, *_BARE, "--single-transaction", "--exit-on-error", str(folder / DUMP))
            for kept in FILES:
                if (folder / kept).exists():
                    place = _place(instance, kept)
                    place.parent.mkdir(parents=True, exist_ok=True)
                    shutil.move(folder / kept, place)
    say("everything is back; ./herald start goes on from there")


def _files_of(instance: Instance) -> Iterator[tuple[str, Path]]:
    for name in FILES:
        place = _place(instance, name)
        if place.is_file():
            yield name, place
        for path in sorted(place.rglob("*")) if place.is_dir() else ():
            if path.is_file():
                yield f"{name}/{path.relative_to(place)}", path


def _place(instance: Instance, name: str) -> Path:
    """Where something is kept: in the data folder, or where a variable says."""
    elsewhere = os.environ.get(FILES[name], "") if FILES[name] else ""
    return Path(elsewhere) if elsewhere else instance.folder / name


def _sums(path: Path) -> dict[str, Any]:
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while piece := file.read(1024 * 1024):
            digest.update(piece)
    return {"size": path.stat().st_size, "sha256": digest.hexdigest()}


def _add_list(archive: tarfile.TarFile, folder: Path, kept: Mapping[str, Any]) -> None:
    listed = folder / LIST
    made_at = datetime.now(UTC).isoformat(timespec="seconds")
    listed.write_text(json.dumps({"format": FORMAT, "made_at": made_at, "files": kept}, indent=1))
    archive.add(listed, arcname=LIST)


def _unpack(file: Path, folder: Path) -> None:
    """Unpack into a folder, and compare everything with the list.

    Raises:
        StepFailed: it is no backup, of another format, or not what was written.
    """
    try:
        with tarfile.open(file) as archive:
            archive.extractall(folder, filter="data")
        listed = json.loads((folder / LIST).read_text())
    except (OSError, tarfile.TarError, ValueError) as error:
        raise StepFailed(f"{file} is no whole backup: {error}") from error
    if listed.get("format") != FORMAT:
        raise StepFailed(f"{file} has the format {listed.get('format')}; this release reads {FORMAT}")
    there = {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()} - {LIST}
    if there != set(listed["files"]):
        raise StepFailed(f"{file} is damaged: what it lists and what it holds differ")
    for name, sums in listed["files"].items():
        if _sums(folder / name) != sums:
            raise StepFailed(f"{file} is damaged: {name} is not what was written")


class _database_of:  # noqa: N801  used like a function
    """The address of an installation's database; its own cluster is started for as long as it is needed."""

    def __init__(self, instance: Instance) -> None:
        self._given = os.environ.get("DATABASE_URL", "")
        self._cluster = None if self._given else instance.cluster
        self._was_up = False

    def __enter__(self) -> str:
        if self._cluster is None:
            return self._given
        self._was_up = self._cluster.is_up()
        self._cluster.start()
        self._cluster.ensure_database(DATABASE)
        return self._cluster.url(DATABASE)

    def __exit__(self, *_: object) -> None:
        if self._cluster is not None and not self._was_up:
            self._cluster.stop()


def _has_tables(url: str) -> bool:
    with psycopg.connect(url) as connection:
        query = "SELECT count(*) FROM information_schema.tables WHERE table_schema = 'public'"
        found = connection.execute(query).fetchone()
    return bool(found and found[0])


def _postgres(program: str, url: str, *arguments: str) -> None:
    """Run one of PostgreSQL's programs; the password goes by the environment, where other users do not see it."""
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    bare = urlunsplit(parts._replace(netloc=f"{parts.username or ''}@{host}" if parts.username else host))
    environment = {**os.environ, "PGPASSWORD": unquote(parts.password or "")}
    found = postgres_bin()
    if found is None:
        raise StepFailed("PostgreSQL's programs are not installed; ./herald start installs them")
    command = [str(found / program), "--dbname", bare, *arguments]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    if done.returncode:
        raise StepFailed(f"{program} failed:\n{done.stderr.strip()}")
