"""What a device can be told to do besides installing: the actions of the protocol, and the command templates that every
installation has."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from herald_core.capabilities import Capability


class Action(StrEnum):
    """What a command asks of a device, as the device protocol names it."""

    RESTART = "restart"
    REPORT = "report"
    LOGS = "logs"
    HEALTH_CHECK = "health_check"
    READ = "read"
    CLEAR_CACHE = "clear_cache"
    LOCATE = "locate"
    SET_CLOCK = "set_clock"
    RE_ENROL = "re_enrol"
    #: an action that the manufacturer named; the order says which
    NAMED = "named"


class Harm(StrEnum):
    """What a command does to the work of a device."""

    GENTLE = "gentle"
    DISRUPTIVE = "disruptive"
    DESTRUCTIVE = "destructive"


#: From the least harm to the most.
HARMS = tuple(Harm)

#: What a device's firmware must be able to do; a named action is offered by models, not by capabilities.
NEEDS: Mapping[Action, Capability] = {
    Action.RESTART: Capability.RESTART,
    Action.REPORT: Capability.REPORT,
    Action.LOGS: Capability.LOGS,
    Action.HEALTH_CHECK: Capability.HEALTH_CHECK,
    Action.READ: Capability.READ,
    Action.CLEAR_CACHE: Capability.CLEAR_CACHE,
    Action.LOCATE: Capability.LOCATE,
    Action.SET_CLOCK: Capability.SET_CLOCK,
    Action.RE_ENROL: Capability.RE_ENROL,
}


@dataclass(frozen=True, kw_only=True)
class BuiltIn:
    """A command template that every installation has. `minutes` is how long a device is at it; `schema` is the JSON
    Schema of its parameters."""

    key: str
    name: str
    action: Action
    harm: Harm
    minutes: int
    note: str
    schema: Mapping[str, Any] = field(default_factory=dict)


def _object(required: tuple[str, ...] = (), **properties: Mapping[str, Any]) -> Mapping[str, Any]:
    return {
        "type": "object",
        "properties": properties,
        "required": list(required),
        "additionalProperties": False,
    }


#: The schema of a command without parameters.
NO_PARAMETERS = _object()

BUILT_IN: tuple[BuiltIn, ...] = (
    BuiltIn(
        key="restart",
        name="Restart",
        action=Action.RESTART,
        harm=Harm.DISRUPTIVE,
        minutes=5,
        note="Each device is silent for a minute or two.",
        schema=NO_PARAMETERS,
    ),
    BuiltIn(
        key="report",
        name="Report now",
        action=Action.REPORT,
        harm=Harm.GENTLE,
        minutes=1,
        note="Each device says all of its facts anew.",
        schema=NO_PARAMETERS,
    ),
    BuiltIn(
        key="logs",
        name="Collect logs",
        action=Action.LOGS,
        harm=Harm.GENTLE,
        minutes=10,
        note="Each device sends its log as a file; kept 30 days, and at most 50 MB a device.",
        schema=_object(
            hours={
                "type": "integer",
                "title": "Of the last hours",
                "minimum": 1,
                "maximum": 168,
                "default": 24,
                "x-unit": "hours",
            },
            level={
                "type": "string",
                "title": "Lines from this level on",
                "enum": ["debug", "info", "warning", "error"],
                "default": "info",
            },
        ),
    ),
    BuiltIn(
        key="health-check",
        name="Run a health check",
        action=Action.HEALTH_CHECK,
        harm=Harm.GENTLE,
        minutes=2,
        note="Each device tries its parts and says what it found.",
        schema=_object(
            check={
                "type": "string",
                "title": "What is checked",
                "enum": ["all", "storage", "network", "sensors"],
                "default": "all",
            },
        ),
    ),
    BuiltIn(
        key="read",
        name="Read a value",
        action=Action.READ,
        harm=Harm.GENTLE,
        minutes=1,
        note="Each device answers with the value that it has under a key.",
        schema=_object(
            ("key",),
            key={
                "type": "string",
                "title": "Key",
                "description": "As the device knows it, like uplink.apn",
                "pattern": "^[a-z][a-z0-9_.]{0,59}$",
                "maxLength": 60,
            },
        ),
    ),
    BuiltIn(
        key="clear-cache",
        name="Clear a cache",
        action=Action.CLEAR_CACHE,
        harm=Harm.DISRUPTIVE,
        minutes=3,
        note="What was cleared is fetched anew when it is needed, over the device’s uplink.",
        schema=_object(
            cache={
                "type": "string",
                "title": "Which cache",
                "enum": ["downloads", "measurements", "all"],
                "default": "downloads",
            },
        ),
    ),
    BuiltIn(
        key="locate",
        name="Locate",
        action=Action.LOCATE,
        harm=Harm.GENTLE,
        minutes=2,
        note="Each device blinks, so that somebody can find it.",
        schema=_object(
            seconds={
                "type": "integer",
                "title": "Blink for",
                "minimum": 5,
                "maximum": 600,
                "default": 60,
                "x-unit": "seconds",
            },
        ),
    ),
    BuiltIn(
        key="set-clock",
        name="Set the clock",
        action=Action.SET_CLOCK,
        harm=Harm.DISRUPTIVE,
        minutes=1,
        note="Each device sets its clock and says by how much it was off.",
        schema=_object(
            source={
                "type": "string",
                "title": "By",
                "enum": ["server", "network"],
                "default": "server",
            },
        ),
    ),
    BuiltIn(
        key="re-enrol",
        name="Forget and enrol again",
        action=Action.RE_ENROL,
        harm=Harm.DESTRUCTIVE,
        minutes=10,
        note="Each device forgets its secret and enrols with a code; where that fails, somebody must go there.",
        schema=_object(
            ("code",),
            code={
                "type": "string",
                "title": "Enrolment code",
                "description": "One that is valid, and for these devices",
                "minLength": 1,
                "maxLength": 80,
                "x-secret": True,
            },
        ),
    ),
)
#: Templates whose name takes the devices as its object: “Restart Field gateways”, but “Collect logs on Field gateways”.
WITH_OBJECT = frozenset({"restart", "locate"})
