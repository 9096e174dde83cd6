"""`list`, `show` and `preview`: what there is, and whom a rule finds. Nothing here changes anything."""

from collections.abc import Callable, Iterable, Mapping
from itertools import islice
from typing import Any, NamedTuple

from herald_ctl.api import Api
from herald_ctl.finding import find_device, find_group, find_image, find_rollout, find_schedule
from herald_ctl.printing import Output, moment, sentence, size


class Asked(NamedTuple):
    """What narrows a list down."""

    search: str | None
    rule: str | None
    limit: int


class Kind(NamedTuple):
    """A kind of thing that is listed."""

    columns: tuple[str, ...]
    rows: Callable[[Api, Asked], Iterable[dict[str, Any]]]
    cells: Callable[[Mapping[str, Any]], tuple[Any, ...]]


def _devices(api: Api, asked: Asked) -> Iterable[dict[str, Any]]:
    pages = api.pages("devices", "devices", q=asked.search, rule=asked.rule, limit=min(asked.limit, 200))
    return islice(pages, asked.limit)


def _named(path: str, *fields: str) -> Callable[[Api, Asked], Iterable[dict[str, Any]]]:
    """A list that comes whole, searched here in some fields."""

    def rows(api: Api, asked: Asked) -> Iterable[dict[str, Any]]:
        word = (asked.search or "").casefold()
        return islice((t for t in api.get(path) if any(word in str(t[f]).casefold() for f in fields)), asked.limit)

    return rows


def _paged(path: str) -> Callable[[Api, Asked], Iterable[dict[str, Any]]]:
    def rows(api: Api, asked: Asked) -> Iterable[dict[str, Any]]:
        return islice(api.pages(path, path, q=asked.search, limit=min(asked.limit, 100)), asked.limit)

    return rows


def _said(thing: Mapping[str, Any]) -> str:
    return thing["name"] or sentence(thing["sentence"])


def confirmed(phases: Mapping[str, int]) -> int:
    """How many devices confirmed."""
    return phases.get("confirmed", 0)


KINDS: Mapping[str, Kind] = {
    "attention": Kind(
        ("id", "what", "devices", "since", "assigned to"),
        lambda api, asked: islice(api.get("attention", state="open")["items"], asked.limit),
        lambda t: (t["id"], t["text"], t["count"], moment(t["opened_at"]), (t["assigned_to"] or {}).get("name")),
    ),
    "devices": Kind(
        ("name", "model", "firmware", "site", "last check-in", "tags"),
        _devices,
        lambda t: (
            t["name"],
            t["model"],
            t["firmware"],
            t["site"],
            moment(t["last_check_in"]),
            ", ".join(t["tags"]),
        ),
    ),
    "groups": Kind(
        ("id", "name", "devices", "rule"),
        _named("groups", "name", "rule"),
        lambda t: (t["id"], t["name"], t["member_count"], t["rule"] if t["kind"] == "rule" else "static"),
    ),
    "images": Kind(
        ("id", "family", "version", "status", "size", "models", "runs on"),
        _named("images", "name", "family", "version"),
        lambda t: (
            t["id"],
            t["family"],
            t["version"],
            t["status"],
            size(t["size_bytes"]),
            ", ".join(t["models"]),
            t["runs"],
        ),
    ),
    "rollouts": Kind(
        ("id", "rollout", "status", "confirmed", "devices"),
        _paged("rollouts"),
        lambda t: (
            t["id"],
            _said(t),
            t["status"]["words"],
            confirmed(t["phases"]),
            t["total"],
        ),
    ),
    "schedules": Kind(
        ("id", "command", "status", "next"),
        _paged("schedules"),
        lambda t: (t["id"], _said(t), t["status"]["words"], moment(t["next_firing"])),
    ),
    "sites": Kind(
        ("id", "name", "region", "time zone", "devices"),
        _named("sites", "name", "region"),
        lambda t: (t["id"], t["name"], t["region"], t["time_zone"], t["devices"]),
    ),
}


def write_list(api: Api, out: Output, kind: str, asked: Asked) -> None:
    """Write what there is of a kind."""
    shown = KINDS[kind]
    rows = list(shown.rows(api, asked))
    if out.as_json:
        out.json(rows)
    elif not rows:
        out.line(f"No {kind} found." if asked.search or asked.rule else f"There are no {kind}.")
    else:
        out.table(shown.columns, (shown.cells(row) for row in rows))
        if len(rows) == asked.limit:
            out.line(f"The first {asked.limit:,}; --limit shows more.", "dim")


def write_device(api: Api, out: Output, word: str) -> None:
    """Write what is known of a device."""
    device = find_device(api, word)
    if out.as_json:
        return out.json(device)
    return out.facts(
        (
            ("name", device["name"]),
            ("uid", device["uid"]),
            ("model", device["model"]),
            ("firmware", device["firmware"]),
            ("site", device["site"]),
            ("time zone", device["time_zone"]),
            ("custodian", device["custodian"]),
            ("admission", device["admission"]),
            ("presence", device["presence"]),
            ("last check-in", moment(device["last_check_in"])),
            ("next expected", moment(device["next_check_in"])),
            ("fault", device["fault"]),
            ("tags", ", ".join(device["tags"])),
            ("groups", ", ".join(group["name"] for group in device["groups"])),
        )
    )


def write_group(api: Api, out: Output, word: str) -> None:
    """Write what a group is, and what uses it."""
    group = find_group(api, word)
    if out.as_json:
        return out.json(group)
    return out.facts(
        (
            ("name", group["name"]),
            ("folder", group["folder"]),
            ("devices", group["member_count"]),
            ("kind", "by a rule" if group["kind"] == "rule" else "static"),
            ("rule", group["rule"]),
            ("note", group["note"]),
            ("used by", "; ".join(use["sentence"] for use in group["uses"])),
        )
    )


def write_image(api: Api, out: Output, word: str) -> None:
    """Write what an image is and where it runs."""
    image = find_image(api, word)
    if out.as_json:
        return out.json(image)
    return out.facts(
        (
            ("image", f"{image['family']} {image['version']}"),
            ("status", image["status"]),
            ("size", size(image["size_bytes"])),
            ("SHA-256", image["sha256"]),
            ("added by", image["added_by"]),
            ("approved by", image["approved_by"]),
            ("fits", image["fits"]),
            ("ready for it", image["ready"]),
            ("runs on", image["runs"]),
            ("failed on", image["failed"]),
            ("notes", image["notes"]),
        )
    )


def write_rollout(api: Api, out: Output, word: str) -> None:
    """Write how a rollout stands, ring by ring."""
    rollout = find_rollout(api, word)
    if out.as_json:
        return out.json(rollout)
    forecast = rollout["forecast"] or {}
    out.line(sentence(rollout["sentence"]), "bold")
    out.facts(
        (
            ("status", rollout["status"]["words"]),
            ("reason", rollout["reason"]),
            ("purpose", rollout["purpose"]),
            ("ticket", rollout["ticket"]),
            ("launched", moment(rollout["launched_at"])),
            ("by", rollout["launched_by"]),
            ("ended", moment(rollout["ended_at"])),
            ("expected end", moment(forecast.get("median")) if not rollout["ended_at"] else ""),
        )
    )
    out.table(
        ("ring", "devices", "confirmed", "failed", "gate"),
        (
            (r["name"], r["size"], confirmed(r["phases"]), r["phases"].get("failed", 0), r["gate"]["words"])
            for r in rollout["rings"]
        ),
    )
    return None


def write_schedule(api: Api, out: Output, word: str) -> None:
    """Write how a scheduled command stands."""
    schedule = find_schedule(api, word)
    if out.as_json:
        return out.json(schedule)
    out.line(sentence(schedule["sentence"]), "bold")
    out.facts(
        (
            ("name", schedule["name"]),
            ("status", schedule["status"]["words"]),
            ("reason", schedule["reason"]),
            ("devices now", schedule["reached_now"]),
            ("next", moment(schedule["next_firing"])),
            ("made by", schedule["created_by"]),
        )
    )
    return None


SHOWN: Mapping[str, Callable[[Api, Output, str], None]] = {
    "device": write_device,
    "group": write_group,
    "image": write_image,
    "rollout": write_rollout,
    "schedule": write_schedule,
}


def write_preview(api: Api, out: Output, rule: str, limit: int) -> None:
    """Write whom a rule finds now."""
    found = api.post("rules/preview", {"rule": rule, "limit": limit})
    if out.as_json:
        return out.json(found)
    out.line(f"{found['count']:,} of {found['fleet']:,} devices", "bold")
    if found["devices"]:
        devices = KINDS["devices"]
        out.table(devices.columns, (devices.cells(device) for device in found["devices"]))
    if found["count"] > len(found["devices"]) > 0:
        out.line(f"and {found['count'] - len(found['devices']):,} more", "dim")
    return None
