"""The words of the interface, the API and the docs: what plain English has replaced stays away."""

import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
#: the old words, as regular expressions without regard to case, and what is said instead
INSTEAD = {
    r"\bbring (it )?in\b|\bbrought in\b|\bbring in\b": "import",
    r"\btake (it |them |this filter )?away\b|\btaken? away\b": "export, or remove",
    r"\bthrow(n)? away\b": "discard",
    r"\bcleaned away\b": "removed",
    r"\bleave it\b(?! out)|\bleave them\b(?! out)": "cancel",
    r"\bits story\b": "history",
    r"\bin hand\b": "current order, or works on it",
    r"\bmaker('s|s')? ids?\b|\bmaker\b": "device UID, manufacturer",
    r"\bways from version\b": "upgrade paths",
    r"\binstalls over\b": "upgrades from",
    r"\bwhat to do\b": "actions",
    r"\bwhere it stands\b": "status",
    r"\bput(s|ting)? (it |this one |\w+ \d+ )?back\b": "roll back",
    r"\bzero-touch\b": "unattended enrolment",
    r"\bshared causes?\b|what the failed ones share": "common causes",
    r"\bwhat it will meet\b": "conflicts",
    r"\bwhom\?": "which devices?",
    r"\bleaving nobody out\b": "with no exclusions",
    r"\bnight shift\b": "dark",
    r"\bcame to nothing\b": "failed",
    r"\b(is )?called so\b": "no match",
    r"\bbeing (reckoned|read|written|undone|looked for|counted|kept)\b": "say it actively",
    r"\breckon": "compute, or forecast",
    r"\btold once\b": "shown once",
    r"\btaken down to\b": "downgraded to",
    r"\bit was by rule\b": "previously rule-based",
    r"\bas things stand\b": "in the current state, or now",
    r"\bby the clock\b(?! of)(?!,)|\bthe clock (did|does|acted|acts)\b": "system, or automatically",
    r"\bput in a group\b": "add to group",
    r"\bgroup these\b": "new group from these",
    r"\bvalues among these\b": "filters",
    r"\bnext call expected\b|\bnever called\b": "next check-in expected, never checked in",
    r"\bmend(ed|s|ing)?\b": "correct, or fix",
    r"\bneedful\b|\bwhilst\b|\bby and by\b": "plain words",
    r"\ball the same…": "anyway",
    r"(?<!viewBox=\"0 0 \d)\d[\u2009\u202f]\d{3}\b": "a comma between thousands",
    r"\d[   ]%": "no space before %",
}
PATTERNS = [(re.compile(words, re.IGNORECASE), instead) for words, instead in INSTEAD.items()]


def files(kind: str) -> list[Path]:
    match kind:
        case "interface":
            found = [p for p in (ROOT / "web" / "src").rglob("*.ts*") if ".test." not in p.name]
            found = [p for p in found if p.name != "schema.d.ts"]
        case "server":
            found = [p for p in (ROOT / "src").rglob("*.py") if "migrations" not in p.parts]
        case _:
            # decisions tell what was true when they were made
            found = [ROOT / "README.md", *(p for p in (ROOT / "docs").glob("*.md"))]
    assert found
    return sorted(found)


@pytest.mark.parametrize("kind", ["interface", "server", "docs"])
def test_old_words_appear_nowhere(kind: str) -> None:
    found = []
    for path in files(kind):
        for line, text in enumerate(path.read_text().splitlines(), 1):
            for pattern, instead in PATTERNS:
                if match := pattern.search(text):
                    found.append(f"{path.relative_to(ROOT)}:{line}: “{match[0]}”; say: {instead}: {text.strip()[:110]}")
    assert not found, f"{len(found)} texts:\n" + "\n".join(found)
