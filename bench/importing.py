"""Bringing in 100,000 rows: checked, then written; beside reading the file alone."""

import resource
import time
from datetime import UTC, datetime

from bench.results import emit
from bench.world import ensure_world
from herald.fleet.models import Device
from herald.imports import services
from herald.imports.models import Import, ImportState
from herald.imports.reading import read_rows

ROWS = 100_000
PREFIX = "IMPORTED-"


def run() -> None:
    """Half of the rows are new and half change a device."""
    ensure_world()
    now = datetime.now(UTC)
    Device.objects.filter(uid__startswith=PREFIX).delete()
    known = list(Device.objects.order_by("id").values_list("uid", "name")[: ROWS // 2])
    first = Device.objects.get(uid=known[0][0])
    crop = "grape" if first.attributes.get("crop") == "olive" else "olive"  # so that each run changes them
    lines = [f'{uid},{name},"Sill 400",Oxbow Flats,pilot,{crop}' for uid, name in known]
    lines += [f'{PREFIX}{n},{PREFIX}{n},"Sill 400",Amber Fold,pilot,olive' for n in range(ROWS - len(known))]
    content = "\n".join(["uid,name,model,site,tag,crop", *lines]).encode()
    started = time.perf_counter()
    rows = sum(1 for _ in read_rows(content, "bench.csv"))
    reading = time.perf_counter() - started
    made = Import.objects.create(
        file_name="bench.csv", content=content, mapping=dict.fromkeys([], ""), created_at=now, state="checking"
    )
    made.mapping = {k: k for k in ("uid", "name", "model", "site", "tag", "crop")}
    made.save()
    started = time.perf_counter()
    services.check(made.pk)
    checking = time.perf_counter() - started
    beside = f"reading the {rows} rows, {reading:.1f} s"
    emit(
        "import",
        "checked",
        checking,
        "s",
        beside=beside,
        ratio=checking / reading,
        target="<= 20 s",
        met=checking <= 20,
    )
    made.refresh_from_db()
    Import.objects.filter(pk=made.pk).update(state=ImportState.APPLYING)
    started = time.perf_counter()
    services.write(made.pk, now=now)
    writing = time.perf_counter() - started
    what = f"written: {made.new_count} new, {made.changed_count} changed"
    emit("import", what, writing, "s", beside=beside, ratio=writing / reading, target="<= 30 s", met=writing <= 30)
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    emit("import", "largest memory of the process", memory, "MB", beside="", target="<= 400 MB", met=memory <= 400)
    Device.objects.filter(uid__startswith=PREFIX).delete()
