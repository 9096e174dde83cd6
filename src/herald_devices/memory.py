"""What devices remember over a loss of power: an append-only file, so that a kill loses nothing."""

import json
from pathlib import Path
from typing import IO, Any


class Memory:
    """Remembers the firmware and boots of devices, one JSON line for each change."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.remembered: dict[str, dict[str, Any]] = {}
        if path.exists():
            for line in path.read_text().splitlines():
                try:
                    change = json.loads(line)
                except json.JSONDecodeError:
                    continue  # the line that was half written when the process was killed
                self.remembered.setdefault(change.pop("uid"), {}).update(change)
        path.parent.mkdir(parents=True, exist_ok=True)
        self._file: IO[str] = path.open("a")
        if path.stat().st_size and not path.read_bytes().endswith(b"\n"):
            self._file.write("\n")

    def keep(self, uid: str, **change: Any) -> None:
        """Remember a change before the device speaks of it."""
        self._file.write(json.dumps({"uid": uid, **change}) + "\n")
        self._file.flush()
