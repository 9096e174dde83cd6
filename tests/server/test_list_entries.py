"""What counts as an entry of a list, in every form that people keep lists in; and what is no list."""

import json

import pytest

from herald.imports.reading import Unreadable
from herald.lists.entries import MOST_ENTRIES, read_entries


@pytest.mark.parametrize(
    ("body", "place", "entries"),
    [
        (b"sill-1\r\nsill-2\n\n sill-3 \n", {}, ["sill-1", "sill-2", "sill-3"]),
        (b"\xef\xbb\xbfsill-1\nsill-1\n", {}, ["sill-1"]),
        ("Zoë\n".encode("utf-16"), {}, ["Zoë"]),
        ("Zoë\n".encode("cp1252"), {}, ["Zoë"]),
        (b"name,site\nsill-1,Here\n\nsill-2,There\n", {"column": "name"}, ["sill-1", "sill-2"]),
        (b'name;"site; long"\n"sill-1";x\n', {"column": "name"}, ["sill-1"]),
        (b'["sill-1", 42, null, ""]', {}, ["sill-1", "42"]),
        (b'{"data": {"devices": ["a", "b"]}}', {"pointer": "/data/devices"}, ["a", "b"]),
        (b'{"a/b": {"m~n": [["x"], ["y"]]}}', {"pointer": "/a~1b/m~0n/1"}, ["y"]),
        (b'[{"serial": "a"}, {"serial": null}, {"serial": "b"}]', {"column": "serial"}, ["a", "b"]),
        (b'{"serial": "a"}\n\n{"serial": "b"}\n', {"column": "serial"}, ["a", "b"]),
        (b"", {}, []),
        (b"[]", {}, []),
        (b"name\n", {"column": "name"}, []),
    ],
)
def test_entries_are_read_from_lines_tables_and_documents(
    body: bytes, place: dict[str, str], entries: list[str]
) -> None:
    assert read_entries(body, **place) == entries


@pytest.mark.parametrize(
    ("body", "place", "words"),
    [
        (b"name,site\nsill-1,Here\n", {}, "It has several columns; say which holds the entries: “name” and “site”."),
        (b"name,site\nsill-1,Here\n", {"column": "nmae"}, "no column “nmae”; its columns are “name” and “site”"),
        (b'{"data": {"devices": []}, "next": []}', {}, "An object stands there, and no list; point at /next."),
        (b'{"data": {}}', {"pointer": "/data/devices"}, "There is no “devices” where /data/devices points"),
        (b'{"data": [1]}', {"pointer": "/data/1"}, "There is no “1”"),
        (b'["a"]', {"pointer": "data"}, "begins with /"),
        (b"sill-1\n", {"pointer": "/data"}, "It is no JSON document"),
        (b'[{"serial": "a"}]', {}, "say which member holds the name: “serial”"),
        (b'[{"serial": "a"}]', {"column": "name"}, "Entry 1 has no “name”; it has “serial”"),
        (b'["a"]', {"column": "name"}, "Entry 1 is no object"),
        (b'["a", [1]]', {}, "Entry 2 is a list, where a name is expected"),
        (b"[true]", {}, "Entry 1 is true or false"),
        (b'["a\\u0000"]', {}, "has a character in it that no name has"),
        (b'["a\\ud800"]', {}, "has a character in it that no name has"),
        (b'["a", ', {}, "It is no JSON"),
        (b"[" * 200_000, {}, "It is no JSON"),
        (b"\x00\x01\x02", {}, "no text file"),
        (b"<html><body>Sign in</body></html>", {}, "a page for people"),
        (b"<html><body>Sign in</body></html>", {"column": "name"}, "a page for people"),
        (b"PK\x03\x04rest", {"column": "name"}, "workbook"),
    ],
)
def test_what_is_no_list_says_so_and_what_to_do(body: bytes, place: dict[str, str], words: str) -> None:
    with pytest.raises(Unreadable) as caught:
        read_entries(body, **place)
    assert words in str(caught.value)


def test_a_list_has_an_end() -> None:
    with pytest.raises(Unreadable, match="more than 200,000 entries"):
        read_entries(json.dumps(list(range(MOST_ENTRIES + 1))).encode())
