"""`export`, `diff` and `apply`: configuration as files in a folder, one or more for each kind.

A file says its form, its kind and the things of it, as YAML or JSON. What a comparison shows has a digest; applying
takes it, so that nothing else is done than what somebody looked at.
"""

import json
import re
import subprocess
import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import typer
import yaml

from herald_ctl.acting import devices
from herald_ctl.api import Api, Trouble
from herald_ctl.printing import Output, moment, safe

VERSION = 1
ENDINGS = (".yaml", ".yml", ".json")
#: between the digest of what is to be done and that of what it sets off
_JOINT = "@"
_PLACE = re.compile(r"/kinds/([^/]+)/(\d+)(/.*)?")
_SIGNS = {"add": ("+", "green"), "change": ("~", "yellow"), "delete": ("-", "red")}


class _Dumper(yaml.SafeDumper):
    """Writes texts of several lines as such."""


class _Loader(yaml.SafeLoader):
    """Reads moments and times of day as the texts that they are."""


def _text(dumper: yaml.SafeDumper, value: str) -> yaml.ScalarNode:
    return dumper.represent_scalar("tag:yaml.org,2002:str", value, style="|" if "\n" in value else None)


_Dumper.add_representer(str, _text)
# 2026-12-24 is a moment to the loader, and 10:30 the number 630: here both are the texts that they are
_TAG = "tag:yaml.org,2002:"
_OWN = {f"{_TAG}timestamp": None, f"{_TAG}int": r"[-+]?[0-9]+", f"{_TAG}float": r"[-+]?[0-9]+\.[0-9]+"}
_Loader.yaml_implicit_resolvers = {
    first: [(tag, pattern) for tag, pattern in found if tag not in _OWN]
    for first, found in yaml.SafeLoader.yaml_implicit_resolvers.items()
}
for _tag, _pattern in _OWN.items():
    if _pattern is not None:
        _Loader.add_implicit_resolver(_tag, re.compile(rf"^{_pattern}$"), list("-+0123456789"))


@dataclass
class Files:
    """What the files of a folder say: the things by kind, and from which file each comes."""

    kinds: dict[str, list[Any]] = field(default_factory=dict)
    sources: dict[str, list[Path]] = field(default_factory=dict)

    def names(self) -> dict[str, str]:
        """The file, or files, of each kind."""
        return {kind: ", ".join(sorted({p.name for p in paths}))[:200] for kind, paths in self.sources.items()}

    def where(self, pointer: str) -> str:
        """The place that the server names, in the files."""
        match = _PLACE.fullmatch(pointer)
        if match is None:
            return pointer
        kind, position, rest = match[1], int(match[2]), match[3] or ""
        source = self.sources[kind][position]
        within = position - self.sources[kind].index(source)
        return f"{source.name}, thing {within + 1}{f', {rest[1:]}' if rest else ''}"


def export(api: Api, out: Output, folder: Path) -> None:
    """Write a file for each kind of which there is something, in place of what stood in it."""
    found = api.get("configuration")
    if out.as_json:
        out.json(found)
        return
    folder.mkdir(parents=True, exist_ok=True)
    for kind, things in found["kinds"].items():
        path = folder / f"{kind}.yaml"
        if not things:
            path.unlink(missing_ok=True)
            continue
        said = {"herald": found["herald"], "kind": kind, "things": things}
        text = yaml.dump(said, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=110)
        whole = path.with_suffix(".part")
        whole.write_text(text)
        whole.replace(path)
        out.line(f"{path}: {len(things):,}")


def read_files(folder: Path) -> Files:
    """What the files of a folder say.

    Raises:
        Trouble: there is none, or one cannot be read; with its name.
    """
    paths = sorted(p for p in folder.glob("*") if p.suffix in ENDINGS) if folder.is_dir() else []
    if not paths:
        raise Trouble(f"There are no files that end with {', '.join(ENDINGS)} in {folder}.")
    files = Files()
    for path in paths:
        try:
            text = path.read_text()
            said = json.loads(text) if path.suffix == ".json" else yaml.load(text, Loader=_Loader)  # safe: see _Loader
        except (OSError, UnicodeDecodeError, ValueError, yaml.YAMLError) as error:
            raise Trouble(f"{path} cannot be read: {error}") from error
        is_file = isinstance(said, dict) and set(said) == {"herald", "kind", "things"}
        if not is_file or not isinstance(said["things"], list) or not isinstance(said["kind"], str):
            raise Trouble(f"{path} must say herald: {VERSION}, a kind, and a list of things, and nothing else.")
        if said["herald"] != VERSION:
            raise Trouble(f"{path} is of form {said['herald']}; this program knows form {VERSION}.")
        files.kinds.setdefault(said["kind"], []).extend(said["things"])
        files.sources.setdefault(said["kind"], []).extend([path] * len(said["things"]))
    return files


def compare(api: Api, out: Output, folder: Path, *, deletes: bool) -> int:
    """Show what applying the files would do; what the program ends with: 0 for nothing, 3 for something."""
    files = read_files(folder)
    plan = _asked(api, "configuration/compare", files, {"deletes": deletes})
    if out.as_json:
        out.json(plan)
    else:
        _show(out, plan)
        if plan["differences"]:
            out.line(f"herald-ctl apply {folder}{' --delete' if deletes else ''} --digest '{_digest(plan)}'", "dim")
    return 3 if plan["differences"] else 0


def apply(api: Api, out: Output, folder: Path, *, deletes: bool, digest: str, revision: str | None) -> None:
    """Apply the files, as they were compared: the digest says so, or somebody who has just looked."""
    files = read_files(folder)
    if not digest:
        plan = _asked(api, "configuration/compare", files, {"deletes": deletes})
        if not out.as_json:
            _show(out, plan)
        digest = _digest(plan)
        if plan["differences"]:
            if not sys.stdin.isatty():
                raise Trouble(f"Look at what `herald-ctl diff` shows and agree to it with --digest '{digest}'.")
            if not typer.confirm("Do it?"):
                raise typer.Exit(2)
    what, _, agreed = digest.partition(_JOINT)
    body = {
        "deletes": deletes,
        "digest": what,
        "files": files.names(),
        "revision": _revision(folder) if revision is None else revision,
    }
    applied = _asked(api, "configuration/apply", files, body, headers={"Herald-Agreed": agreed})
    if out.as_json:
        out.json(applied)
        return
    counts = {verb: sum(d["verb"] == verb for d in applied["differences"]) for verb in _SIGNS}
    said = [f"{n} {verb.removesuffix('e')}ed" for verb, n in counts.items() if n]
    out.line(f"Done: {', '.join(said)}." if said else "All is as the files say.")


def _asked(api: Api, path: str, files: Files, body: Mapping[str, Any], **more: Any) -> dict[str, Any]:
    try:
        answer: dict[str, Any] = api.post(path, {"herald": VERSION, "kinds": files.kinds, **body}, **more)
    except Trouble as trouble:
        errors = trouble.problem.get("errors")
        if not errors:
            raise
        lines = [f"{files.where(str(e.get('pointer', '')))}: {e.get('message', '')}" for e in errors]
        raise Trouble("\n".join(lines), trouble.problem) from trouble
    return answer


def _digest(plan: Mapping[str, Any]) -> str:
    return f"{plan['digest']}{_JOINT}{plan['agreed']}"


def _show(out: Output, plan: Mapping[str, Any]) -> None:
    for difference in plan["differences"]:
        sign, style = _SIGNS[difference["verb"]]
        out.line(f"{sign} {difference['kind']}: {safe(difference['name'])}", style)
        for line in _fields(difference):
            out.line(f"    {line}")
    for kind, names in plan["stays"].items():
        if names:
            shown = ", ".join(map(safe, names[:5])) + (", …" if len(names) > 5 else "")
            out.line(f"{kind} in no file, which stay ({len(names):,}): {shown}", "dim")
    if not plan["differences"]:
        out.line("All is as the files say.")
        return
    for group in plan["groups"]:
        out.line(f"“{safe(group['name'])}”: {devices(group['joins'])} join, {group['leaves']:,} leave")
    for use in plan["uses"]:
        joins, leaves = devices(use["joins"]), f"{use['leaves']:,}"
        out.line(f"{safe(use['sentence'])} follows them: {joins} join it, {leaves} leave it", "bold")
    for command in plan["fires"]:
        when = f"fires next {moment(command['at'])}" if command["at"] else "does not fire by itself"
        out.line(f"“{safe(command['name'])}” {when}, now for {devices(command['devices'])}", "bold")
    if not plan["groups"]:
        out.line("No device joins or leaves a group.", "dim")


def _fields(difference: Mapping[str, Any]) -> Iterator[str]:
    for name, after in difference["after"].items():
        if after == difference["name"]:
            continue
        before = difference["before"].get(name)
        said = safe(after) if difference["verb"] == "add" else f"{safe(before)} → {safe(after)}"
        yield f"{name}: {said}"


def _revision(folder: Path) -> str:
    """What the folder's repository calls its state; empty where it is in none."""
    try:
        asked = ["git", "-C", str(folder), "describe", "--always", "--dirty"]
        told = subprocess.run(asked, capture_output=True, text=True, check=False, timeout=10)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return told.stdout.strip()[:100] if told.returncode == 0 else ""
