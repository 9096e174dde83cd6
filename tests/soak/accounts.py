"""Accounting for every order of an installation, in its own database: nothing lost, nothing repeated, nobody blamed."""

from collections.abc import Iterator
from typing import Any

from herald_core.deliveries import OPEN
from tests.running import Running

#: causes for which the server ends an attempt of a device that it heard nothing of; in a fleet whose devices all go on
#: calling, each of these is a false failure
NOT_HEARD = ("no-answer", "no-progress", "not-fetched")
#: what a program writes of an error that is its own and not the database's
_OWN_WORDS = ("turn_failed", "flush_failed", "request_failed")

STILL_OPEN = """
    SELECT count(*) FROM deliveries_delivery d LEFT JOIN commands_occurrence o ON o.id = d.occurrence_id
    WHERE d.phase = ANY(%(open)s) AND (d.rollout_id = ANY(%(rollouts)s) OR o.schedule_id = ANY(%(schedules)s))"""
BROKEN_CHAINS = """
    WITH told AS (
        SELECT e.delivery_id, e.from_phase, e.to_phase,
               lag(e.to_phase) OVER (PARTITION BY e.delivery_id ORDER BY e.id) AS before,
               lead(e.id) OVER (PARTITION BY e.delivery_id ORDER BY e.id) AS next
        FROM deliveries_deliveryevent e JOIN deliveries_delivery d ON d.id = e.delivery_id
        WHERE d.rollout_id = ANY(%(rollouts)s) OR d.occurrence_id IS NOT NULL)
    SELECT count(*) FROM told JOIN deliveries_delivery d ON d.id = told.delivery_id
    WHERE told.before <> told.from_phase OR (told.next IS NULL AND told.to_phase <> d.phase)"""
FALSE_FAILURES = """
    SELECT v.name, d.last_error FROM deliveries_delivery d JOIN fleet_device v ON v.id = d.device_id
    LEFT JOIN commands_occurrence o ON o.id = d.occurrence_id
    WHERE d.phase = 'failed' AND d.last_error = ANY(%(not_heard)s)
      AND (d.rollout_id = ANY(%(rollouts)s) OR o.schedule_id = ANY(%(schedules)s))"""
SUMS = """
    SELECT phase, count(*) FROM deliveries_delivery d LEFT JOIN commands_occurrence o ON o.id = d.occurrence_id
    WHERE d.is_current_step AND (d.rollout_id = ANY(%(rollouts)s) OR o.schedule_id = ANY(%(schedules)s))
    GROUP BY phase ORDER BY phase"""
OTHER_VERSION = """
    SELECT count(*) FROM deliveries_delivery d JOIN fleet_device v ON v.id = d.device_id
    JOIN images_image i ON i.id = d.target_id
    WHERE d.rollout_id = %(rollout)s AND d.is_current_step AND d.phase = 'confirmed' AND v.firmware_key <> i.version_key
      AND NOT EXISTS (SELECT FROM deliveries_delivery o  -- what another order has changed since is its own
                      WHERE o.device_id = d.device_id AND o.id <> d.id AND o.phase_since >= d.phase_since)"""
QUARANTINED = "SELECT count(*) FROM attention_item WHERE kind = 'quarantined'"


class Accounts:
    """What was ordered, and what became of it."""

    def __init__(self, installation: Running) -> None:
        self._installation = installation
        self.rollouts: dict[int, int] = {}
        self.schedules: dict[int, int] = {}

    def _ask(self, query: str, **more: Any) -> list[tuple[Any, ...]]:
        asked = {
            "open": [p.value for p in OPEN],
            "rollouts": list(self.rollouts),
            "schedules": list(self.schedules),
            "not_heard": list(NOT_HEARD),
            **more,
        }
        with self._installation.database() as connection:
            return connection.execute(query, asked).fetchall()

    def run_another_version(self, rollout: int) -> int:
        """Confirmed devices of a rollout that has just ended and that run something else."""
        return int(self._ask(OTHER_VERSION, rollout=rollout)[0][0])

    def still_open(self) -> int:
        return int(self._ask(STILL_OPEN)[0][0])

    def sums(self) -> dict[str, int]:
        """How the orders ended."""
        return {phase: int(n) for phase, n in self._ask(SUMS)}

    def false_failures(self) -> list[tuple[str, str]]:
        """Devices that failed only as nothing was heard of them, and the cause."""
        return [(str(name), str(error)) for name, error in self._ask(FALSE_FAILURES)]

    def faults(self) -> Iterator[str]:
        """What does not add up, in words; nothing where all does."""
        ordered, ended = sum(self.rollouts.values()) + sum(self.schedules.values()), sum(self.sums().values())
        if ordered != ended:
            yield f"{ordered} orders were given, and {ended} are there"
        if count := self.still_open():
            yield f"{count} orders are still open"
        if count := int(self._ask(BROKEN_CHAINS)[0][0]):
            yield f"{count} events do not follow from the one before them, or are not where their order is"
        if failures := self.false_failures():
            yield f"{len(failures)} false failures, such as {failures[0][0]}: {failures[0][1]}"
        if count := int(self._ask(QUARANTINED)[0][0]):
            yield f"{count} objects were put in quarantine"
        for log in sorted((self._installation.folder / "logs").glob("*.log")):
            lines = log.read_text(errors="replace").splitlines()
            for words in _OWN_WORDS:
                said = [line for line in lines if f'"event": "{words}", "level": "error"' in line]
                if said:
                    yield f"{log.stem} says {words} {len(said)} times, such as {said[-1][-600:]}"
