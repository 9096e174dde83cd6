"""`watch`: a rollout until it is through. It is asked anew when the server says that it changed, and every few seconds
where that cannot be heard."""

import threading
import time
from collections.abc import Mapping
from typing import Any

import httpx
from httpx_sse import SSEError, connect_sse
from rich.console import Group
from rich.live import Live
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from herald_ctl.acting import devices
from herald_ctl.api import Api, Trouble
from herald_ctl.finding import find_rollout, title
from herald_ctl.looking import confirmed
from herald_ctl.printing import Output, moment, safe, sentence

#: states in which nothing more comes by itself, and what `watch` ends with
ENDS = {"finished": 0, "stopped": 3, "halted": 3}
#: asked at most, and at least, so often, in seconds
SOONEST, LATEST = 0.7, 10.0


class _Changes(threading.Thread):
    """Listens to the server in the background and says when a rollout may have changed."""

    def __init__(self, api: Api, rollout_id: int) -> None:
        super().__init__(daemon=True)
        self._api, self._rollout_id = api, rollout_id
        self.happened = threading.Event()

    def run(self) -> None:
        while True:
            try:
                with connect_sse(self._api.http, "GET", "events", timeout=httpx.Timeout(10.0, read=60.0)) as source:
                    for event in source.iter_sse():
                        if self._is_meant(event.json()):
                            self.happened.set()
            except (httpx.HTTPError, SSEError, ValueError):
                pass  # it is asked every few seconds meanwhile
            time.sleep(LATEST / 2)

    def _is_meant(self, said: Mapping[str, Any]) -> bool:
        # whoever is limited is not told which rollout it is
        return said.get("topic") == "everything" or (
            said.get("topic") == "rollout" and said.get("id") in (None, self._rollout_id)
        )


def watch(api: Api, out: Output, word: str) -> int:
    """Follow a rollout to its end; what the program ends with."""
    rollout = find_rollout(api, word)
    if rollout["state"] == "draft":
        raise Trouble(f"{title(rollout)} is a draft; `herald-ctl launch {rollout['id']}` launches it.")
    changes = _Changes(api, rollout["id"])
    changes.start()
    drawn: _Picture | _Lines = _Picture(out) if out.console.is_terminal and not out.as_json else _Lines(out)
    lost = ""
    with drawn:
        while True:
            drawn.show(rollout, lost)
            if rollout["state"] in ENDS:
                break
            time.sleep(SOONEST)
            changes.happened.wait(LATEST - SOONEST)
            changes.happened.clear()
            try:
                rollout, lost = api.get(f"rollouts/{rollout['id']}"), ""
            except Trouble as trouble:
                if trouble.problem and trouble.problem.get("status") not in (429, 502, 503, 504):
                    raise
                lost = str(trouble)
    if rollout["state"] != "finished" and not out.as_json:
        why = rollout["reason"] or rollout["status"]["words"]
        out.line(f"{safe(rollout['state']).capitalize()}: {safe(why)}", "red")
    return ENDS[rollout["state"]]


class _Lines:
    """Where nothing can be drawn over: a line each time that something is different."""

    def __init__(self, out: Output) -> None:
        self._out = out
        self._last: tuple[Any, ...] = ()

    def __enter__(self) -> None:
        """Nothing is to be begun."""

    def __exit__(self, *_: Any) -> None:
        """Nothing is left to do."""

    def show(self, rollout: Mapping[str, Any], lost: str) -> None:
        """Write how the rollout stands, if it stands otherwise."""
        said = (rollout["state"], rollout["status"]["words"], rollout["phases"])
        if said == self._last:
            return
        self._last = said
        if self._out.as_json:
            kept = ("id", "state", "status", "reason", "phases", "total")
            self._out.json({key: rollout[key] for key in kept}, on_one_line=True)
        else:
            failed = rollout["phases"].get("failed", 0)
            words = f"{confirmed(rollout['phases']):,} of {devices(rollout['total'])} confirmed, {failed:,} failed"
            self._out.line(f"{words}: {safe(rollout['status']['words'])}")


class _Picture:
    """A picture in the terminal that is drawn over."""

    def __init__(self, out: Output) -> None:
        self._live = Live(console=out.console, auto_refresh=False)

    def __enter__(self) -> None:
        self._live.start()

    def __exit__(self, *_: Any) -> None:
        self._live.stop()

    def show(self, rollout: Mapping[str, Any], lost: str) -> None:
        """Draw how the rollout stands."""
        self._live.update(picture(rollout, lost), refresh=True)


def picture(rollout: Mapping[str, Any], lost: str) -> Group:
    """A rollout with a bar for each ring; `lost` says why it cannot be asked about at the moment."""
    rings = Table(box=None, pad_edge=False, show_header=False)
    for ring in rollout["rings"]:
        done, failed = confirmed(ring["phases"]), ring["phases"].get("failed", 0)
        words = f"{done:,} of {ring['size']:,} confirmed" + (f", {failed:,} failed" if failed else "")
        bar = ProgressBar(total=max(ring["size"], 1), completed=done, width=30)
        rings.add_row(Text(safe(ring["name"])), bar, Text(words), Text(safe(ring["gate"]["words"]), style="dim"))
    lines = [Text(sentence(rollout["sentence"]), style="bold"), Text(safe(rollout["status"]["words"]))]
    end = moment((rollout["forecast"] or {}).get("median")) if not rollout["ended_at"] else ""
    if end:
        lines.append(Text(f"expected to end {end}", style="dim"))
    if lost:
        lines.append(Text(f"What is shown is old. {safe(lost)}", style="yellow"))
    return Group(*lines, rings)
