"""Groups on 100,000 devices: saving a rule, the tree, how soon a device's change is told while 2,000 others call."""

import json
import os
import re
import shutil
import statistics
import subprocess
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from django.contrib.auth import BACKEND_SESSION_KEY, HASH_SESSION_KEY, SESSION_KEY
from django.contrib.sessions.backends.db import SessionStore

from bench.follow import ensure_groups
from bench.results import emit, p95, times_ms
from bench.world import ensure_world
from herald.demo.fleet import secret_of
from herald.fleet.models import Device, MembershipQueueEntry
from herald.groups.folders import list_folders
from herald.groups.membership import process_changed_devices
from herald.groups.models import Group
from herald.groups.rule_suggestions import propose_rule
from herald.groups.services import change_group, create_group
from herald.people.models import User
from herald_launch import instance
from herald_launch.install import ensure_debian
from herald_launch.steps import free_port

WIDE = "not family = Sill"
PROBES, PAUSE = 60, 0.35
CONNECTIONS, RATE, CALLING = 600, 2000, 8000
SETTLE_SECONDS = 40
LATENCY_MS = 110  # about what a call takes beside its pause
#: wrk's threads call with another device each time, at a steady pace; every tenth call brings another battery charge
SCRIPT = """
local secrets = {}
for line in io.lines("%s") do secrets[#secrets + 1] = line end
local n, calls = math.random(#secrets), 0
delay = function() return %d end
request = function()
  n, calls = n %% #secrets + 1, calls + 1
  local battery = n %% 60 + 30
  if n %% 10 == 0 then battery = (n + calls) %% 60 + 30 end
  local body = string.format('{"firmware":"5.1.0","facts":{"battery":%%d,"boot_count":7}}', battery)
  return wrk.format("POST", "/device/v1/check-in", {["Authorization"] = "Bearer " .. secrets[n]}, body)
end
"""


def run() -> None:
    """Saving, the tree, a proposed rule; then the whole way from a device's call to the browser's event."""
    ensure_world()
    now = datetime.now(UTC)
    ensure_groups()
    while process_changed_devices(now=now):
        pass
    _saving(now)
    tree = p95(times_ms(list_folders, 5))
    listed = p95(times_ms(lambda: list(Group.objects.with_counts()), 5))
    emit("groups", "the list of groups with counts, p95", listed, "ms", target="<= 1000 ms", met=listed <= 1000)
    emit("groups", "folders with distinct devices, p95", tree, "ms", target="<= 1000 ms", met=tree <= 1000)
    group = Group.objects.get(name=PROPOSED) if Group.objects.filter(name=PROPOSED).exists() else _picked(now)
    started = time.perf_counter()
    found = propose_rule(group, limit=0, now=now)
    took = time.perf_counter() - started
    emit(
        "groups",
        f"a rule proposed for {group.memberships.count()} of the fleet ({found.joins + found.leaves} differ)",
        took,
        "s",
        target="<= 30 s",
        met=took <= 30,
    )
    _reaching()


PROPOSED = "Bench picked"


def _picked(now: datetime) -> Group:
    ids = Device.objects.filter(model__name="Sill 400", tags__contains=["frost-zone"]).values_list("id", flat=True)
    return create_group(name=PROPOSED, kind="static", device_ids=list(ids), actor=None, now=now)


def _saving(now: datetime) -> None:
    """A rule saved that some 30,000 devices join."""
    group = Group.objects.filter(name="Bench wide").first()
    group = group or create_group(name="Bench wide", kind="rule", rule="tag = nobody", actor=None, now=now)
    times, joined = [], 0
    for _ in range(5):
        change_group(group, rule="tag = nobody", actor=None, now=now)
        started = time.perf_counter()
        joined = change_group(group, rule=WIDE, actor=None, now=now).joined
        times.append(time.perf_counter() - started)
    change_group(group, rule="tag = nobody", actor=None, now=now)
    value = statistics.median(times)
    emit(
        "groups", f"a rule saved that {joined} devices join", value, "s", target="30,000 in <= 2 s",
        met=value / joined * 30_000 <= 2,
    )  # fmt: skip


def _reaching() -> None:
    """From a device's call to the event that its group changed, beside calls of others."""
    ensure_debian("wrk", present=shutil.which("wrk") is not None)
    group = Group.objects.filter(name="Bench probe").first() or create_group(
        name="Bench probe", kind="rule", rule="battery > 900", actor=None, now=datetime.now(UTC)
    )
    uids = list(Device.objects.order_by("?").values_list("uid", flat=True)[:CALLING])
    with tempfile.TemporaryDirectory() as folder, _programs() as (gateway, server):
        secrets = Path(folder) / "secrets"
        secrets.write_text("\n".join(secret_of(u) for u in uids[1:]))
        script = Path(folder) / "calls.lua"
        script.write_text(SCRIPT % (secrets, int(CONNECTIONS / RATE * 1000) - LATENCY_MS))
        seconds = int(PROBES * (PAUSE + 0.6)) + SETTLE_SECONDS
        load = subprocess.Popen(
            ["wrk", "-t2", f"-c{CONNECTIONS}", f"-d{seconds}s", "-s", str(script), f"http://127.0.0.1:{gateway}"],
            stdout=subprocess.PIPE,
            text=True,
        )
        _settle()
        times = _probe(secret_of(uids[0]), gateway, _Events(server, group.pk))
        out, _ = load.communicate()
    rate = re.search(r"Requests/sec:\s+([\d.]+)", out)
    if rate is None or "Non-2xx" in out:
        raise RuntimeError(out)
    value = p95(times)
    emit(
        "groups",
        "from a device's call to the event of its group, p95",
        value,
        "s",
        beside=f"{float(rate[1]):.0f} check-ins/s, a tenth with news, 200 rule groups",
        target="<= 1 s beside 2,000/s",
        met=value <= 1 and float(rate[1]) >= 0.9 * RATE,
        median_s=round(statistics.median(times), 3),
    )


def _settle() -> None:
    """Wait until every device has called and was followed, so that what comes is the usual day."""
    deadline = time.monotonic() + SETTLE_SECONDS
    time.sleep(10)
    while time.monotonic() < deadline and MembershipQueueEntry.objects.count() > RATE // 4:
        time.sleep(0.5)


@contextmanager
def _programs() -> "Iterator[tuple[int, int]]":
    gateway, server = free_port(), free_port()
    commands = (instance.gateway("127.0.0.1", gateway), instance.serve("127.0.0.1", server), instance.clock())
    running = [subprocess.Popen(c, stdout=subprocess.DEVNULL, env=os.environ) for c in commands]
    try:
        for url in (f"http://127.0.0.1:{gateway}/device/v1/health", f"http://127.0.0.1:{server}/api/v1/health"):
            _wait(url)
        yield gateway, server
    finally:
        for process in running:
            process.terminate()
        for process in running:
            process.wait()


def _wait(url: str) -> None:
    for _ in range(300):
        try:
            urllib.request.urlopen(url, timeout=1).close()
            return
        except urllib.error.HTTPError:
            return
        except OSError:
            time.sleep(0.1)
    raise RuntimeError(f"{url} did not come up")


class _Events:
    """The moments at which the event stream spoke of a group."""

    def __init__(self, port: int, group_id: int) -> None:
        user = User.objects.order_by("id").first()
        assert user is not None
        session = SessionStore()
        session[SESSION_KEY], session[HASH_SESSION_KEY] = str(user.pk), user.get_session_auth_hash()
        session[BACKEND_SESSION_KEY] = "django.contrib.auth.backends.ModelBackend"
        session.save()
        request = urllib.request.Request(
            f"http://127.0.0.1:{port}/api/v1/events", headers={"Cookie": f"sessionid={session.session_key}"}
        )
        self._stream = urllib.request.urlopen(request, timeout=60)
        self.group_id = group_id
        self.heard = threading.Event()
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        for line in self._stream:
            if line.startswith(b"data: "):
                event = json.loads(line[6:])
                if event["topic"] == "group" and event["id"] == self.group_id:
                    self.heard.set()


def _probe(secret: str, port: int, events: _Events) -> list[float]:
    times = []
    for index in range(PROBES):
        events.heard.clear()
        body = json.dumps({"firmware": "5.1.0", "facts": {"battery": 999 if index % 2 == 0 else 50}}).encode()
        request = urllib.request.Request(
            f"http://127.0.0.1:{port}/device/v1/check-in", body, {"Authorization": f"Bearer {secret}"}
        )
        started = time.perf_counter()
        urllib.request.urlopen(request, timeout=30).close()
        if not events.heard.wait(30):
            raise RuntimeError("no event came within 30 s")
        times.append(time.perf_counter() - started)
        time.sleep(PAUSE)
    return times
