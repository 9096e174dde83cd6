"""What a report by mail holds: its subject, its words, where it is on screen, and its file.

All of it is what whoever it is made for sees at that moment: within their limits, where they have any.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from urllib.parse import quote

from django.db.models import Count, Max

from herald.agenda.rows import NO_SITE
from herald.attention.models import Item
from herald.fleet.models import Admission, Device
from herald.fleet.presence import SILENT_RULE, not_heard_for_long
from herald.http.export import Table, csv_bytes
from herald.samples.by_place import FirmwareReport, PlaceRow, by_version
from herald.samples.models import Report
from herald_core.timing.clocks import zone

#: so many rows are told in the mail itself; all of them are in the file
MOST_ROWS = 40


@dataclass(frozen=True, kw_only=True)
class Contents:
    """A report for a mail. `page` is where it is on screen, `file` a CSV."""

    subject: str
    parts: Sequence[str]
    page: str
    file: bytes


def _firmware(now: datetime, clock: str) -> Contents:
    report = FirmwareReport(now)
    devices, approved = sum(r.devices for r in report.models), sum(r.approved for r in report.models)
    return Contents(
        subject=f"Firmware: {approved:,} of {devices:,} devices on an approved version",
        parts=[
            _lines("By model", [_place(r) for r in report.models]),
            _lines("By site", [_place(r) for r in report.sites]),
            "Each version of each model at each site is in the file.",
        ],
        page="/record/firmware",
        file=csv_bytes(by_version(report)),
    )


def _place(row: PlaceRow) -> str:
    return f"{row.name}: {row.approved:,} of {row.devices:,} on an approved version"


def _silent(now: datetime, clock: str) -> Contents:
    admitted = Device.objects.filter(admission=Admission.ADMITTED).order_by()
    is_silent = not_heard_for_long(now)
    sites = (
        admitted.values_list("site__name")
        .annotate(silent=Count("pk", filter=is_silent), all=Count("pk"), latest=Max("last_check_in", filter=is_silent))
        .filter(silent__gt=0)
        .order_by("-silent", "site__name")
    )
    rows = list(sites)
    silent, devices = sum(r[1] for r in rows), admitted.count()
    columns = ("name", "uid", "model", "site", "custodian", "firmware", "last check-in")
    fields = ("name", "uid", "model__name", "site__name", "custodian__name", "firmware", "last_check_in")
    found = admitted.filter(is_silent).order_by("site__name", "name").values_list(*fields)
    return Contents(
        subject=f"Silent devices: {silent or 'none'} of {devices:,}",
        parts=[
            _lines(
                "By site",
                [
                    f"{name or NO_SITE}: {n:,} of {whole:,}"
                    + (f", the last one heard of {_at(latest, clock)}" if latest else "")
                    for name, n, whole, latest in rows
                ],
            ),
            "Silent is a device that was not heard of for 24 hours, or for ten of its intervals if that is longer, or"
            " never. Each is in the file.",
        ],
        page=f"/fleet?rule={quote(SILENT_RULE)}",
        file=csv_bytes(Table("silent", columns, found.iterator())),
    )


def _attention(now: datetime, clock: str) -> Contents:
    items = list(Item.objects.open().listed())
    until = [item.snoozed_until if item.snoozed_until and item.snoozed_until > now else None for item in items]
    put_off = len(items) - until.count(None)
    columns = ("kind", "what", "devices", "since", "known to", "looked after by", "put off until")
    rows = [
        (
            item.get_kind_display(),
            item.cause,
            item.count,
            item.opened_at,
            str(item.acknowledged_by or ""),
            str(item.assigned_to or ""),
            later,
        )
        for item, later in zip(items, until, strict=True)
    ]
    parts = [_lines("Open, the latest first", [_item(item, clock) for item in items])]
    if put_off:
        parts.append(f"{put_off:,} of them are put off until later.")
    return Contents(
        subject=f"Attention: {len(items):,} open" if items else "Attention: nothing is open",
        parts=parts,
        page="/attention",
        file=csv_bytes(Table("attention", columns, rows)),
    )


def _item(item: Item, clock: str) -> str:
    devices = f" ({item.count:,})" if item.count is not None else ""
    who = f"; {item.assigned_to} looks after it" if item.assigned_to else ""
    return f"{item.cause}{devices}, since {_at(item.opened_at, clock)}{who}"


def _at(moment: datetime, clock: str) -> str:
    return f"{moment.astimezone(zone(clock)):%a %-d %b, %H:%M}"


def _lines(title: str, lines: Sequence[str]) -> str:
    more = [f"and {len(lines) - MOST_ROWS:,} more, in the file"] if len(lines) > MOST_ROWS else []
    return "\n".join([title, *(lines[:MOST_ROWS] or ["none"]), *more])


#: by report: its contents as of a moment, with times by the clock of a zone
CONTENTS: Mapping[str, Callable[[datetime, str], Contents]] = {
    Report.FIRMWARE: _firmware,
    Report.SILENT: _silent,
    Report.ATTENTION: _attention,
}
