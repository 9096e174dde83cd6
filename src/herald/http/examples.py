"""An example of what each call takes, for the OpenAPI document; a test holds each against its schema."""

from typing import Any

_GATE = {"confirmed_pct": 95.0, "soak_minutes": 60, "min_tried": 5}
_RINGS = [
    {"name": "Trial", "kind": "number", "number": 10, **_GATE},
    {"name": "Tenth", "kind": "share", "share_pct": 10.0, "needs_approval": True, **_GATE},
    {"name": "All others", "kind": "rest", "confirmed_pct": 95.0, "soak_minutes": 0},
]
_COMMAND = {
    "template": "restart",
    "include": [12],
    "exclude": [31],
    "when": "repeat",
    "rule": "FREQ=WEEKLY;BYDAY=MO,TH",
    "starts_on": "2026-12-01",
    "time_of_day": "04:30",
    "spread_minutes": 20,
    "expires_after_minutes": 120,
}
_ATTRIBUTE = {"label": "Pump type", "type": "choice", "choices": ["plunger", "vane"], "note": "as on its plate"}
_MATCHING = {"rule": "model = 'Sill 400' and battery < 30"}

#: by the type of the body; an example holds for the call that makes a thing and for those that change or preview it
BODIES: dict[str, Any] = {
    "NotificationRuleBody": {
        "name": "On call",
        "kinds": ["halted", "stopped-part", "fleet-silent"],
        "is_urgent": True,
        "people": [2, 5],
        "next_after_minutes": 15,
    },
    "ChannelBody": {"name": "Operations room", "url": "https://chat.larkfield.example/hooks/42"},
    "PreferenceBody": {"mail": "at-once", "daily_at": "08:00", "quiet_from": "22:00", "quiet_until": "07:00"},
    "ReadBody": {"up_to": 311},
    "AcceptBody": {"name": "A. Lind", "password": "what only you know", "time_zone": "Europe/Lisbon"},
    "InviteBody": {"emails": ["a.lind@larkfield.example"], "role": "operator"},
    "PersonChange": {"role": "approver"},
    "PersonLimits": {"limits": {"folders": [3], "sites": [12]}},
    "PeopleBody": {"people": [7]},
    "OwnChange": {"name": "A. Lind", "time_zone": "Europe/Lisbon"},
    "PasswordBody": {"current": "what only you know", "new": "something longer than before"},
    "AssignBody": {"to": "engineer@larkfield.example"},
    "SnoozeBody": {"until": "2026-12-01T08:00:00Z"},
    "PauseBody": {"reason": "Valves report a wrong pressure since two o’clock"},
    "EditOpenBody": {"max_concurrent": 40, "failure_limit_pct": 3.0, "rings": [{"position": 2, "soak_minutes": 240}]},
    "RingsAheadBody": {
        "rings": [
            {"id": 31, "name": "Half of them", "kind": "share", "share_pct": 50.0, "soak_minutes": 240},
            {"id": None, "name": "Everyone left", "kind": "rest", "soak_minutes": 0},
        ]
    },
    "WordsBody": {"name": "Frost season", "purpose": "Sensors drift below zero", "ticket": "OPS-118"},
    "UsualHoursBody": {"images": [5], "include": [3], "include_devices": ["sill-0007"]},
    "AttributeChange": _ATTRIBUTE,
    "AttributeDraft": {"key": "pump", **_ATTRIBUTE},
    "ImageCleanupBody": {"images": [14, 15]},
    "CodeDraftBody": {"label": "Crew of the north", "admit": True, "tags": ["north"], "site": "Amber Fold", "uses": 40},
    "CommentBody": {"text": "Waits for the crew at Amber Fold, back on Monday."},
    "CompareQuestion": {"rule": "firmware >= 2.3", "devices": ["sill-0007", "name:42"]},
    "CustodianDraft": {"name": "north-agronomy", "email": "north@larkfield.example", "tags": ["north"]},
    "DeviceDraftBody": {
        "model": "Sill 400",
        "uid": "LG-4E1F02C9A7",
        "name": "sill-1201",
        "site": "Amber Fold",
        "tags": ["flood-risk"],
        "attributes": {"pump": "vane"},
    },
    "DevicesBody": {"devices": ["sill-0007", "uid:LG-4E1F02C9A7"]},
    "DevicesReasonBody": {"devices": ["sill-0007"], "reason": "on the bench for repair"},
    "EditRequest": {"target": _MATCHING, "add_tags": ["low-power"], "set_attributes": {"pump": "vane"}},
    "EditTarget": _MATCHING,
    "ExplainQuestion": {"rule": "tag = flood-risk", "device": "sill-0007"},
    "FactChange": {"label": "Water level", "unit": "mm", "type": "number"},
    "FolderChange": {"name": "Harvest", "parent": None},
    "FolderDraft": {"name": "Harvest", "parent": None},
    "ListBody": {
        "url": "https://assets.larkfield.example/pumps.json",
        "pointer": "/data/devices",
        "column": "serial",
        "read_every_minutes": 60,
        "unasked_a_day": 5,
    },
    "ListReadBody": {"leaves": 12},
    "MoveBody": {"kind": "schedule", "id": 7, "change": {"time_of_day": "05:00"}},
    "SuggestBody": {"by": "2026-12-15T00:00:00Z", "from_hour": 20, "hours": 10},
    "SourceBody": {
        "name": "Larkfield estates",
        "url": "https://calendars.larkfield.example/harvest.ics",
        "time_zone": "Europe/Lisbon",
        "groups": [12],
    },
    "RepeatedImportBody": {
        "name": "Assets of the north",
        "url": "https://assets.larkfield.example/north.csv",
        "mapping": 3,
        "read_every_minutes": 1440,
        "unasked": 50,
    },
    "ReportMailBody": {
        "report": "silent",
        "to": ["manager@example.com"],
        "days": [0],
        "at": "08:00",
        "zone": "Europe/Lisbon",
    },
    "FeedBody": {"name": "My phone", "parts": ["windows", "firings"], "rows": "site", "keys": ["3"]},
    "FreezeBody": {
        "name": "Harvest",
        "why": "pumps must run",
        "starts_at": "2026-12-01T00:00:00Z",
        "ends_at": "2026-12-08T00:00:00Z",
        "groups": [12],
    },
    "GateBody": {"ring": 1},
    "GroupChange": {"name": "Low batteries", "rule": "battery < 25"},
    "GroupDraft": {"name": "Low batteries", "kind": "rule", "rule": "battery < 30", "note": "to be visited"},
    "GroupsBody": {"groups": [12]},
    "HoldBody": {"rule": "site = 'Amber Fold'", "reason": "the crew is on site"},
    "HoldQuestion": {"rule": "site = 'Amber Fold'"},
    "ImageDraft": {
        "upload": "0c9d2f0e-9f4b-4f58-9d0f-3f6c1a7f2b11",
        "models": ["Sill 400"],
        "version": "2.4.0",
        "notes": "Fixes the pressure sensor.",
        "min_version": "2.0",
        "free_space_mb": 32.0,
        "min_battery_pct": 30.0,
    },
    "ImportAcceptance": {"all_or_nothing": False},
    "ImportMapping": {"mapping": {"Serial no.": "serial", "Place": "site"}},
    "LaunchBody": {"devices": 412, "reason": "the failed eight were out of power"},
    "LetInBody": {"uid": "LG-4E1F02C9A7"},
    "MappingToSave": {"name": "Vendor’s delivery list"},
    "MemberChange": {"add": ["sill-0007"], "remove": ["sill-0012"]},
    "ModelDraft": {"name": "Sill 400", "family": "Sill"},
    "ModelCapabilitiesBody": {"ranges": [{"capability": "files_ahead", "from_version": "2.1"}]},
    "NewScheduleBody": {**_COMMAND, "devices": 120},
    "KeptBody": {"days": 90, "archives": True, "deletes": 120_400},
    "ConfigurationBody": {"kinds": {"groups": [{"name": "Frost zone", "rule": "tag = frost-zone"}]}, "deletes": False},
    "ConfigurationToApply": {
        "kinds": {"groups": [{"name": "Frost zone", "rule": "tag = frost-zone"}]},
        "digest": "9f2c41d07e6ab8355d1f0c9a77e21b64",
        "files": {"groups": "groups.yaml"},
        "revision": "4f2a1c9",
    },
    "NewTokenBody": {"name": "Nightly report", "days": 90, "reads_only": True, "limits": {"folders": [4], "sites": []}},
    "OutageBody": {"site": 3, "ends_at": "2026-12-01T06:00:00Z", "reason": "the provider moves the mast"},
    "OrderBody": {"order": [7, 4, 9]},
    "PlanBody": {"name": "Careful", "note": "a trial first", "rings": _RINGS},
    "AnswerGroupBody": {"occurrences": [311, 312], "keys": ["equal:stale"], "name": "Stale on 24 Nov"},
    "ApprovalPolicyBody": {"on_arrival": False},
    "RemovalBody": {"name": "sill-0007"},
    "ReplacementBody": {"by": "sill-1201"},
    "RolloutSentenceBody": {"changes": [{"choice": "newest"}], "include": [3], "ring_count": 3},
    "RolloutDraftBody": {
        "changes": [{"model_id": None, "choice": "image", "image_id": 5}],
        "include": [12],
        "exclude": [31],
        "rings": _RINGS,
        "window_start": "01:00",
        "window_end": "05:00",
        "failure_limit_pct": 5.0,
        "max_concurrent": 50,
    },
    "RuleBody": {"rule": "tag = flood-risk"},
    "RuleQuestion": {"rule": "tag = flood-risk and not group = 'On the bench'", "limit": 50},
    "RunBody": {"devices": 120},
    "ScheduleChangeBody": {**_COMMAND, "time_of_day": "05:00", "revision": 3},
    "ScheduleDraftBody": _COMMAND,
    "SieveQuestion": {"rule": "family = Sill\nbattery < 30", "limit": 20},
    "OwnPasswordBody": {"password": "what only you know"},
    "StandInBody": {"reason": "The fix for the burst valves has to go out tonight, and no approver answers."},
    "WantedBody": {"roles": ["administrator", "approver"]},
    "ProofBody": {"password": "what only you know"},
    "AssertionBody": {"assertion": {"id": "t5xVb0c9", "type": "public-key", "response": {}}},
    "NewPasskeyBody": {
        "name": "Laptop",
        "credential": {"id": "t5xVb0c9", "type": "public-key", "response": {}},
    },
    "CodeBody": {"code": "492 039"},
    "TakeOffBody": {"password": "what only you know", "code": "492 039"},
    "SignInBody": {"email": "engineer@larkfield.example", "password": "what only you know"},
    "SiteDraft": {"name": "Amber Fold", "region": "North", "time_zone": "Europe/Lisbon", "transfers_at_once": 4},
    "SkipBody": {"local_time": "2026-12-24T05:30"},
    "TagDescription": {"note": "may stand in water", "colour": 3},
    "TagRenaming": {"to": "flood-plain"},
    "TemplateBody": {
        "name": "Exercise the valve",
        "action": "named",
        "action_name": "exercise_valve",
        "schema": {
            "type": "object",
            "properties": {
                "strokes": {"type": "integer", "title": "Strokes", "minimum": 1, "maximum": 10, "default": 2}
            },
            "required": [],
            "additionalProperties": False,
        },
        "harm": "disruptive",
        "minutes": 5,
        "models": [{"model": 4, "from_version": "2.6.0", "to_version": ""}],
    },
    "UploadStart": {"file_name": "sill-2.4.0.bin", "size_bytes": 8388608},
    "ViewDraft": {"name": "Silent in the north", "address": {"rule": "last_seen > 24 h ago"}},
    "WithdrawalReason": {"reason": "it fails on revision C"},
}


def bodies_have_examples(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Show with each call an example of what it takes."""
    for calls in result["paths"].values():
        for call in calls.values():
            content = call.get("requestBody", {}).get("content", {}).get("application/json", {})
            name = content.get("schema", {}).get("$ref", "").rpartition("/")[2]
            if name:
                content["example"] = BODIES[name.removeprefix("Patched").removesuffix("Request")]
    return result
