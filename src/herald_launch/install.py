"""What a fresh Debian 12 lacks: packages, the front end's modules, its build. Nothing is done twice."""

import hashlib
import os
import shutil
from collections.abc import Iterable
from pathlib import Path

from herald_launch.steps import PYTHON, ROOT, StepFailed, as_root, run, say

WEB = ROOT / "web"
NODE_MAJOR = 20


def ensure_debian(package: str, *, present: bool) -> None:
    """Install a Debian package unless what it brings is present."""
    if present:
        return
    say(f"installing Debian's {package}")
    environment = {"DEBIAN_FRONTEND": "noninteractive"}
    if package == "postgresql":
        _no_main_cluster()
    run(as_root(["apt-get", "update", "-qq"]), doing="apt-get update", advice="Is a package mirror reachable?")
    run(
        as_root(["apt-get", "install", "-y", "-qq", "--no-install-recommends", package]),
        doing=f"installing {package}",
        env=environment,
    )


def _no_main_cluster() -> None:
    """Keep the package from making and starting a cluster of its own, which nobody here needs."""
    conf = Path("/etc/postgresql-common/createcluster.conf")
    if os.geteuid() == 0 and not conf.exists():
        conf.parent.mkdir(parents=True, exist_ok=True)
        conf.write_text("create_main_cluster = false\n")


def postgres_bin() -> Path | None:
    """Where PostgreSQL's programs are, the newest version first; None where it is not installed."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda p: int(p.parts[-3]))
    if found:
        return found[-1].parent
    on_path = shutil.which("initdb")
    return Path(on_path).resolve().parent if on_path else None


def ensure_postgres() -> None:
    ensure_debian("postgresql", present=postgres_bin() is not None)
    if postgres_bin() is None:
        raise StepFailed("PostgreSQL was installed, but initdb is not where Debian puts it (/usr/lib/postgresql).")


def ensure_chromium() -> None:
    ensure_debian("chromium", present=Path("/usr/bin/chromium").exists())


def ensure_node() -> None:
    """Node 20 or newer must be there; it is the one thing that is not installed for you."""
    if shutil.which("npm") is None or shutil.which("node") is None:
        raise StepFailed(f"Node {NODE_MAJOR} with npm is missing. Install it and run the command again.")
    version = run(["node", "--version"], doing="node --version").strip()
    if int(version.lstrip("v").split(".")[0]) < NODE_MAJOR:
        raise StepFailed(f"Node {NODE_MAJOR} or newer is needed, {version} was found.")


def ensure_node_modules() -> None:
    """`npm ci`, if the lock file changed since the last time."""
    ensure_node()
    stamp, wanted = WEB / "node_modules" / ".installed", _digest([WEB / "package-lock.json"])
    if stamp.exists() and stamp.read_text() == wanted:
        return
    say("installing the front end's packages (npm ci)")
    advice = "Is the npm registry reachable?"
    run(["npm", "ci", "--no-audit", "--no-fund"], doing="npm ci", cwd=WEB, advice=advice)
    stamp.write_text(wanted)


def ensure_front_end() -> None:
    """Build the front end, if its sources changed since the last time."""
    sources = [p for folder in ("src", "public") for p in sorted((WEB / folder).rglob("*")) if p.is_file()]
    sources += [WEB / name for name in ("package-lock.json", "vite.config.ts", "tsconfig.json", "index.html")]
    stamp, wanted = WEB / "dist" / ".built", _digest(sources)
    if stamp.exists() and stamp.read_text() == wanted:
        return
    ensure_node_modules()
    say("building the front end")
    run(["npm", "run", "build"], doing="building the front end", cwd=WEB)
    # the server sends these to browsers that take them compressed
    run([PYTHON, "-m", "whitenoise.compress", "--quiet", str(WEB / "dist")], doing="compressing the front end")
    stamp.write_text(wanted)


def ensure_fuzzer() -> str:
    """Install the fuzzer, in an environment of its own; its program."""
    wanted, folder = ROOT / "requirements" / "fuzz.txt", ROOT / "var" / "fuzz"
    stamp, programs = folder / "installed", folder / "venv" / "bin"
    digest = _digest([wanted])
    if not stamp.exists() or stamp.read_text() != digest:
        say("installing the packages of requirements/fuzz.txt")
        folder.mkdir(parents=True, exist_ok=True)
        run([PYTHON, "-m", "venv", str(folder / "venv")], doing="making a Python environment for the fuzzer")
        pip = [str(programs / "pip"), "install", "--quiet", "--disable-pip-version-check", "-r", str(wanted)]
        run(pip, doing="installing the fuzzer", advice="Is a package index reachable?")
        stamp.write_text(digest)
    return str(programs / "schemathesis")


def _digest(paths: Iterable[Path]) -> str:
    digest = hashlib.sha256()
    for path in paths:
        digest.update(str(path.relative_to(ROOT)).encode())
        digest.update(path.read_bytes())
    return digest.hexdigest()
