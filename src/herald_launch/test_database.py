"""The database of the tests: a cluster that is quick and may lose its data, and in it one database with all its tables,
which each run of tests copies. Making the tables takes longer than hundreds of tests."""

import hashlib

import psycopg
from psycopg import sql

from herald_launch import install
from herald_launch.instance import DATABASE
from herald_launch.postgres import Cluster
from herald_launch.steps import PYTHON, ROOT, run

TEST_FOLDER = ROOT / "var" / "test"
_TEMPLATE = "herald_tables_"


def test_environment() -> dict[str, str]:
    """The environment of tests that need a database."""
    install.ensure_postgres()
    cluster = _cluster()
    cluster.start()
    cluster.ensure_database(DATABASE)
    environment = {
        "DATABASE_URL": cluster.url(DATABASE),
        "HERALD_SECRET_KEY": "tests",
        "HERALD_DATA_DIR": str(TEST_FOLDER / "data"),
        "HERALD_DEMO": "1",
    }
    return {**environment, "HERALD_TEST_TEMPLATE": _ensure_template(cluster, environment)}


def stop_test_database() -> None:
    """Leave nothing running. The cluster's files stay, so that the next run need not make it anew."""
    if install.postgres_bin() is not None:
        _cluster().stop()


def _cluster() -> Cluster:
    """A cluster for tests, which may lose its data in a crash and is fast for it."""
    return Cluster(TEST_FOLDER / "postgres", fast=True)


def _ensure_template(cluster: Cluster, environment: dict[str, str]) -> str:
    """The name of the database with the tables as all migrations make them; made where it is not there."""
    name = _TEMPLATE + _migrations_digest()
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
        query = "SELECT datname FROM pg_database WHERE datname LIKE %s"
        found = {row[0] for row in connection.execute(query, [f"{_TEMPLATE}%"])}
    if name in found:
        return name
    for old in found:
        cluster.drop_database(old)
    making = f"{_TEMPLATE}making"
    cluster.ensure_database(making)
    run(
        [PYTHON, str(ROOT / "manage.py"), "migrate", "-v", "0"],
        doing="making the tables for the tests",
        env={**environment, "DATABASE_URL": cluster.url(making)},
    )
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
        # whole, or not there: whoever ends this in the middle leaves no half of it under its name
        connection.execute(sql.SQL("ALTER DATABASE {} RENAME TO {}").format(*map(sql.Identifier, (making, name))))
    return name


def _migrations_digest() -> str:
    files = [*sorted((ROOT / "src" / "herald").glob("*/migrations/*.py")), ROOT / "requirements" / "base.txt"]
    digest = hashlib.sha256()
    for file in files:
        digest.update(file.name.encode() + file.read_bytes())
    return digest.hexdigest()[:12]
