"""Rooms write only their own rows; import-linter sees to the rest of what they may know of each other."""

import ast
from pathlib import Path

import herald

ROOT = Path(herald.__file__).parent
WRITES = {"create", "bulk_create", "bulk_update", "get_or_create", "update_or_create", "update", "delete", "save"}
#: The demo fills every table; the gateway is the fleet's and the deliveries' door to devices.
MAY_WRITE_ELSEWHERE = {"demo": None, "gateway": {"fleet"}}


def test_no_room_writes_the_rows_of_another() -> None:
    found = [
        f"{path.relative_to(ROOT)}:{line} writes {model} of {owner}"
        for path in sorted(ROOT.rglob("*.py"))
        for line, model, owner in foreign_writes(path.read_text(), path.relative_to(ROOT).parts[0])
    ]

    assert found == []


def test_a_foreign_write_is_seen() -> None:
    source = "from herald.fleet.models import Device\ndef f():\n    Device.objects.filter(pk=1).update(name='x')\n"

    assert foreign_writes(source, "groups") == [(3, "Device", "fleet")]
    assert foreign_writes(source, "fleet") == []
    assert foreign_writes(source, "gateway") == []


def foreign_writes(source: str, room: str) -> list[tuple[int, str, str]]:
    """Line, model and owner of each write through a model that another room owns."""
    tree = ast.parse(source)
    owners = {
        alias.asname or alias.name: node.module.split(".")[1]
        for node in ast.walk(tree)
        if isinstance(node, ast.ImportFrom)
        and node.module
        and node.module.startswith("herald.")
        and node.module.endswith(".models")
        for alias in node.names
    }
    allowed = MAY_WRITE_ELSEWHERE.get(room, set())
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in WRITES:
            model = _root(node.func.value)
            owner = owners.get(model or "")
            if owner and owner != room and allowed is not None and owner not in allowed:
                found.append((node.lineno, str(model), owner))
    return found


def _root(node: ast.expr) -> str | None:
    """The name with which a chain of calls and attributes begins."""
    while isinstance(node, ast.Call | ast.Attribute):
        node = node.func if isinstance(node, ast.Call) else node.value
    return node.id if isinstance(node, ast.Name) else None
