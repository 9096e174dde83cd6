"""Things by the word that somebody types: an id, or a name."""

from collections.abc import Iterable, Mapping
from typing import Any
from urllib.parse import quote

from herald_ctl.api import Api, Trouble
from herald_ctl.printing import safe

MOST_NAMED = 6


def find_rollout(api: Api, word: str) -> dict[str, Any]:
    """A rollout by its id or name."""
    return _one(api, "rollouts", word, lambda: api.pages("rollouts", "rollouts", q=word, limit=100))


def find_schedule(api: Api, word: str) -> dict[str, Any]:
    """A scheduled command by its id or name."""
    return _one(api, "schedules", word, lambda: api.pages("schedules", "schedules", q=word, limit=100))


def find_group(api: Api, word: str) -> dict[str, Any]:
    """A group by its id or name."""
    return _one(api, "groups", word, lambda: api.get("groups"))


def find_device(api: Api, word: str) -> dict[str, Any]:
    """A device by its id, name or uid, as the API itself finds it."""
    found: dict[str, Any] = api.get(f"devices/{quote(word, safe=':')}")
    return found


def find_image(api: Api, word: str) -> dict[str, Any]:
    """An image by its id, its name, or family and version as in “Sill 5.2.1”."""
    images = api.get("images")
    named = [i for i in images if word in (str(i["id"]), i["name"], f"{i['family']} {i['version']}")]
    return _only(named, "image", word)


def title(thing: Mapping[str, Any]) -> str:
    """What a rollout or schedule is called: its name, or else what it is about and its number."""
    if thing["name"]:
        return f"“{safe(thing['name'])}”"
    return f"Rollout {thing['id']} of {safe(thing['target'])}" if "target" in thing else f"Command {thing['id']}"


def _one(api: Api, path: str, word: str, listed: Any) -> dict[str, Any]:
    what = path.removesuffix("s")
    if word.isdigit():
        try:
            by_id: dict[str, Any] = api.get(f"{path}/{word}")
        except Trouble as trouble:
            if trouble.code != "not-found":
                raise
        else:
            return by_id
    found = _only([t for t in listed() if t["name"].casefold() == word.casefold()], what, word)
    whole: dict[str, Any] = api.get(f"{path}/{found['id']}")
    return whole


def _only(found: Iterable[dict[str, Any]], what: str, word: str) -> dict[str, Any]:
    all_found = list(found)
    if not all_found:
        raise Trouble(f"There is no {what} “{safe(word)}”, by id or name.")
    if len(all_found) > 1:
        ids = ", ".join(str(t["id"]) for t in all_found[:MOST_NAMED])
        raise Trouble(f"{len(all_found)} {what}s are called “{safe(word)}”; say which by its id: {ids}.")
    return all_found[0]
