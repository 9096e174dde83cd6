"""Imports of files that are made to break them: bounded, said row by row, and each ends in a state with its reason."""

import io
from typing import Any
from zipfile import ZIP_DEFLATED, ZipFile

import pytest
from django.db import OperationalError, connection
from openpyxl import Workbook
from openpyxl.xml.constants import SHEET_MAIN_NS

from herald.db.locks import IMPORT
from herald.http.errors import Invalid
from herald.imports import reading, services, tasks
from herald.imports.models import Import
from herald.imports.reading import Unreadable, read_rows
from tests.factories import NOW, make_model

pytestmark = pytest.mark.django_db
SHEET = (
    b'<worksheet xmlns="%s"><sheetData>'
    b'<row r="1"><c r="A1" t="inlineStr"><is><t>uid</t></is></c></row>%s</sheetData></worksheet>'
)


def workbook(rows: bytes) -> bytes:
    """A workbook with a heading *uid*, and these rows as they would stand in its sheet."""
    plain, out = io.BytesIO(), io.BytesIO()
    Workbook().save(plain)
    with ZipFile(plain) as source, ZipFile(out, "w", ZIP_DEFLATED) as target:
        for name in source.namelist():
            target.writestr(
                name, SHEET % (SHEET_MAIN_NS.encode(), rows) if name.endswith("sheet1.xml") else source.read(name)
            )
    return out.getvalue()


def brought(content: bytes, name: str = "x.csv") -> Import:
    make_model()
    made = services.create_import(content, name, actor=None, now=NOW)
    services.check(made.pk, now=NOW)
    made.refresh_from_db()
    return made


def test_a_ragged_row_is_a_wrong_row_and_the_others_are_taken() -> None:
    made = brought(b"uid,model\nA,Sill 400\nB,Sill 400,x,y\nC,Sill 400,,\n")
    assert (made.state, made.new_count, made.wrong_count) == ("checked", 2, 1)
    wrong = made.wrong.get()
    assert (wrong.row, wrong.reason) == (3, "it has 4 cells; there are 2 headings")


def test_a_line_that_is_no_json_is_a_wrong_row() -> None:
    made = brought(b'{"uid": "A", "model": "Sill 400"}\n{"uid": \n[1]\n' + b"[" * 90_000 + b"\n", "x.jsonl")
    assert (made.new_count, made.wrong_count) == (1, 3)
    assert [w.row for w in made.wrong.order_by("row")] == [2, 3, 4]


@pytest.mark.parametrize(
    ("rows", "says"),
    [
        (b'<row r="2"><c r="AAAAAAA2"><v>1</v></c></row>', "no workbook"),
        (b"<row", "no workbook"),
        (b"", "no row"),
    ],
)
def test_a_workbook_that_cannot_be_read_ends_failed_with_the_reason(rows: bytes, says: str) -> None:
    made = brought(workbook(rows), "x.xlsx")
    assert made.state == "failed" and says in made.reason


def test_a_workbook_that_unpacks_to_more_than_is_read_is_refused_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "MAX_UNPACKED", 50_000)
    with pytest.raises(Invalid, match="unpacks to more"):
        services.create_import(workbook(b" " * 60_000), "x.xlsx", actor=None, now=NOW)


def test_no_more_rows_are_read_than_a_file_may_have(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "MAX_ROWS", 3)
    far = b'<row r="9"><c r="A9"><v>1</v></c></row>'
    for content, name in ((workbook(far), "x.xlsx"), (b"uid\na\nb\nc\nd\n", "x.csv"), (b'{"uid": 1}\n' * 4, "x.jsonl")):
        with pytest.raises(Unreadable, match="part it in several"):
            list(read_rows(content, name))


def test_the_columns_of_a_workbook_are_known_once_it_is_checked() -> None:
    made = services.create_import(workbook(b'<row r="2"><c r="A2"><v>7</v></c></row>'), "x.xlsx", actor=None, now=NOW)
    assert (made.headings, made.mapping) == ([], {})
    services.check(made.pk, now=NOW)
    made.refresh_from_db()
    assert (made.headings, made.mapping, made.row_count, made.checked_count) == (["uid"], {"uid": "uid"}, 1, 1)


@pytest.mark.django_db(transaction=True)
def test_a_file_that_a_living_worker_reads_is_not_begun_again() -> None:
    made = services.create_import(b"uid\nA\n", "x.csv", actor=None, now=NOW)
    with connection.copy().cursor() as other:  # another worker's connection
        other.execute("SELECT pg_advisory_lock(%s, %s)", [IMPORT, made.pk])
        services.check(made.pk, now=NOW)
        made.refresh_from_db()
        assert (made.state, made.attempts) == ("checking", 0)
        other.execute("SELECT pg_advisory_unlock(%s, %s)", [IMPORT, made.pk])
        other.connection.close()
    services.check(made.pk, now=NOW)
    made.refresh_from_db()
    assert made.state == "checked"


def test_a_file_that_keeps_stopping_the_worker_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    made = services.create_import(b"uid\nA\n", "x.csv", actor=None, now=NOW)

    def killed(*_: Any) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(services, "_check", killed)
    for _ in range(services.MOST_ATTEMPTS):
        with pytest.raises(KeyboardInterrupt):
            services.check(made.pk, now=NOW)
    services.check(made.pk, now=NOW)
    made.refresh_from_db()
    assert made.state == "failed" and "stopped 3 times" in made.reason


def test_an_error_of_the_system_ends_an_import_with_its_reason(monkeypatch: pytest.MonkeyPatch) -> None:
    made = services.create_import(b"uid\nA\n", "x.csv", actor=None, now=NOW)
    monkeypatch.setattr(services, "_check", lambda *_: 1 // 0)
    tasks.carry_out_check(made.pk)
    made.refresh_from_db()
    assert made.state == "failed" and "ZeroDivisionError" in made.reason


def test_a_database_that_is_away_ends_no_import(monkeypatch: pytest.MonkeyPatch) -> None:
    made = services.create_import(b"uid\nA\n", "x.csv", actor=None, now=NOW)

    def away(*_: Any) -> None:
        raise OperationalError("gone")

    monkeypatch.setattr(services, "_check", away)
    with pytest.raises(OperationalError):
        tasks.carry_out_check(made.pk)
    made.refresh_from_db()
    assert made.state == "checking"


def test_a_check_that_is_cancelled_stops_where_it_is(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("herald.imports.planning.CHUNK", 1)
    made = services.create_import(b"uid\nA\nB\nC\n", "x.csv", actor=None, now=NOW)
    real, seen = services.Planner.plan, []

    def cancelling(self: Any, rows: Any) -> Any:
        seen.append(rows)
        if len(seen) == 2:
            services.cancel(made.pk, actor=None, now=NOW)
        return real(self, rows)

    monkeypatch.setattr(services.Planner, "plan", cancelling)
    services.check(made.pk, now=NOW)
    made.refresh_from_db()
    assert (made.state, len(seen), made.checked_count) == ("cancelled", 2, 1)


def test_a_cell_far_beyond_the_headings_makes_its_row_wrong_and_only_that() -> None:
    rows = (
        b'<row r="2"><c r="A2"><v>7</v></c><c r="GT2"><v>1</v></c></row>'
        b'<row r="3"><c r="A3"><v>8</v></c><c r="GT3"/></row>'
    )
    told = [(row.number, row.problem) for row in read_rows(workbook(rows), "x.xlsx")]
    assert told == [(2, "it has cells beyond the headings"), (3, "")]


def test_a_sheet_of_rows_that_are_all_as_wide_as_can_be_is_not_read_to_its_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "MAX_ROWS", 300)  # with 200 columns, 60,000 cells in all
    rows = b"".join(b'<row r="%d"><c r="XFD%d"/></row>' % (n, n) for n in range(2, 10))
    with pytest.raises(Unreadable, match="far wider than its headings"):
        list(read_rows(workbook(rows), "x.xlsx"))
