"""What changes something: launching, stepping in, adding images. Each says its consequence in numbers before it is
done, and asks; a script agrees with the number of devices, or with `--yes`.
"""

import hashlib
import sys
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import typer
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn

from herald_ctl.api import Api, Trouble
from herald_ctl.finding import find_rollout, title
from herald_ctl.printing import Output, safe, size

#: phases of devices that have not begun, whose orders are withdrawn when a rollout is stopped
NOT_BEGUN = ("waiting", "offered")
#: phases of devices in the middle of it
IN_THE_MIDDLE = ("accepted", "fetching", "staged", "installing", "running", "confirming")


def devices(count: int) -> str:
    """A number of devices."""
    return f"{count:,} {'device' if count == 1 else 'devices'}"


def preflight(api: Api, out: Output, rollout: Mapping[str, Any]) -> dict[str, Any]:
    """Ask who takes part in a draft and write it down."""
    found: dict[str, Any] = api.post(f"rollouts/{rollout['id']}/preflight")
    if not out.as_json:
        out.line(f"{title(rollout)}: reaches {devices(found['reached'])} of {found['audience']:,}", "bold")
        left_out = [o for o in found["outcomes"] if not o["takes_part"] and o["count"]]
        out.facts((safe(o["words"]) + safe(f" ({o['amounts']})" if o["amounts"] else ""), o["count"]) for o in left_out)
        if found["in_no_ring"]:
            out.line(f"{devices(found['in_no_ring'])} in no ring: they are left out.", "yellow")
        for past in found["past_failures"]:
            out.line(safe(past), "yellow")
        out.table(("ring", "devices"), ((r["name"], r["devices"]) for r in found["rings"]))
    return found


def launch(api: Api, out: Output, word: str, agreed: int | None, reason: str) -> None:
    """Launch a draft, after its preflight, for the number of devices that was agreed to."""
    rollout = find_rollout(api, word)
    if rollout["state"] != "draft":
        raise Trouble(f"{title(rollout)} is no draft: {safe(rollout['status']['words'])}.")
    found = preflight(api, out, rollout)
    if agreed is None:
        _need_terminal(f"Give the number of devices that may be reached: --devices {found['reached']}.")
        agreed = typer.prompt("Type the number of devices to launch", type=int)
    launched = api.post(f"rollouts/{rollout['id']}/launch", {"devices": agreed, "reason": reason})
    if out.as_json:
        out.json(launched)
    else:
        out.line(f"Launched. `herald-ctl watch {rollout['id']}` follows it.")


def step_in(api: Api, out: Output, verb: str, word: str, *, yes: bool) -> None:
    """Pause, resume or stop a rollout, or open its next ring."""
    rollout = find_rollout(api, word)
    if (question := _QUESTIONS[verb](rollout)) and not yes:
        _need_terminal(f"{question} Agree with --yes.")
        out.line(question)
        if not typer.confirm("Do it?"):
            raise typer.Exit(2)
    effect = api.post(f"rollouts/{rollout['id']}/{verb}")
    if out.as_json:
        out.json(effect)
        return
    parts = [f"{title(rollout)}: {safe(effect['state'])}"]
    parts += [f"{devices(effect['withdrawn'])} withdrawn"] if effect["withdrawn"] else []
    parts += [f"{devices(effect['finishing'])} finishing what they began"] if effect["finishing"] else []
    out.line(", ".join(parts) + ".")


def _stop(rollout: Mapping[str, Any]) -> str:
    waiting, middle = (_count(rollout, phases) for phases in (NOT_BEGUN, IN_THE_MIDDLE))
    return f"{title(rollout)} ends for good: {devices(waiting)} that have not begun, {middle:,} that finish."


def _resume(rollout: Mapping[str, Any]) -> str:
    why = f" It stopped itself: {safe(rollout['reason'])}." if rollout["state"] == "halted" else ""
    return f"{title(rollout)} goes on with {devices(_count(rollout, NOT_BEGUN))}.{why}"


def _open_gate(rollout: Mapping[str, Any]) -> str:
    ahead = [r for r in rollout["rings"] if r["opened_at"] is None]
    if not ahead:
        raise Trouble(f"All rings of {title(rollout)} have opened.")
    gate = next((r["gate"]["words"] for r in reversed(rollout["rings"]) if r["opened_at"] is not None), "")
    return f"Ring “{safe(ahead[0]['name'])}” opens for {devices(ahead[0]['size'])} by hand. {safe(gate)}".strip()


_QUESTIONS: Mapping[str, Callable[[Mapping[str, Any]], str]] = {
    "pause": lambda rollout: "",
    "resume": _resume,
    "stop": _stop,
    "open-gate": _open_gate,
}


def _count(rollout: Mapping[str, Any], phases: tuple[str, ...]) -> int:
    return sum(rollout["phases"].get(phase, 0) for phase in phases)


def _need_terminal(otherwise: str) -> None:
    if not sys.stdin.isatty():
        raise Trouble(otherwise)


def add_image(api: Api, out: Output, file: Path, about: Mapping[str, Any]) -> None:
    """Send a file and make an image of it."""
    try:
        total = file.stat().st_size
        content = file.open("rb")
    except OSError as error:
        raise Trouble(f"{file} cannot be read: {error.strerror}.") from error
    digest = hashlib.sha256()
    columns = (TextColumn("{task.description}"), BarColumn(), DownloadColumn())
    with content, Progress(*columns, console=out.console, transient=True, disable=out.as_json) as progress:
        upload = api.post("uploads", {"file_name": file.name, "size_bytes": total})
        bar = progress.add_task(safe(file.name), total=total)
        sent = 0
        while piece := content.read(upload["piece_bytes"]):
            digest.update(piece)
            sent = api.put(f"uploads/{upload['id']}", piece, offset=sent)["received_bytes"]
            progress.update(bar, completed=sent)
    if sent != total:
        raise Trouble(f"{file} has changed while it was sent.")
    image = api.post("images", {"upload": upload["id"], **about})
    if image["sha256"] != digest.hexdigest():
        raise Trouble(f"The server has other bytes than {file}: do not approve image {image['id']}.")
    if out.as_json:
        out.json(image)
        return
    approved = "it may be rolled out" if image["status"] == "approved" else "it waits to be approved"
    out.line(f"{safe(image['name'])}, image {image['id']}, {size(total)}: {approved}.")
