"""What the fuzzer looks for besides, in answers to somebody who is limited: the names of devices that are not theirs.

It is imported by the fuzzer, in an environment that has nothing else of this project.
"""

import os
from pathlib import Path

import schemathesis

#: a file with a word a line, none of which may be told
WORDS = Path(os.environ["HERALD_FUZZ_FOREIGN"]).read_text().split()


@schemathesis.check  # type: ignore[untyped-decorator]
def nothing_foreign(ctx: object, response: schemathesis.Response, case: schemathesis.Case) -> None:
    """No answer tells of a device of others, unless its name was in the question."""
    told = response.content.decode(errors="replace")
    asked = f"{case.path_parameters} {case.query} {case.body}"
    found = [word for word in WORDS if word in told and word not in asked]
    assert not found, f"the answer tells of devices of others: {', '.join(found[:5])}"
