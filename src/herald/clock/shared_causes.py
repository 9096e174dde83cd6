"""What the devices of an attention item share, and the rest of the fleet does not.

The worker looks, not the clock: a look takes a second or two, and nothing that is due may wait for it.
"""

import random
from collections.abc import Collection
from datetime import datetime, timedelta

from django.db.models import F, Q

from herald.attention.models import Item, ItemKind
from herald.attention.services import begin_look, keep_shared
from herald.fleet.models import Device
from herald.fleet.vocabulary import load_records, load_vocabulary
from herald.groups.rule_queries import matching
from herald_core.common_causes import FEWEST_FAILED, find_common_causes, shared_words
from herald_core.rules import And, Node, RuleError, Vocabulary, parse, to_text

#: the kinds that are looked at, and the field that each is about, which explains nothing
ABOUT = {ItemKind.SILENT: "last_check_in", ItemKind.LOW_BATTERY: "battery", ItemKind.NO_FIRMWARE: "firmware"}
#: what is told holds for at least so many times as large a share of the devices as of the others: less is no chance
#: either where devices are many, but explains little
TIMES_AS_COMMON = 2.0
#: a condition as a rule, and in words how many devices of the item and of the others hold it
Shared = dict[str, str]
#: an item whose count changed is looked at again after so long
AGAIN_AFTER = timedelta(minutes=10)
#: more devices than these tell nothing more; of more, so many are drawn
MOST_DEVICES, MOST_OTHERS = 1000, 2000


def look_for_shared_causes(*, now: datetime) -> None:
    """Look at each open item that was not looked at yet, or counts other devices than when it was."""
    changed = Q(shared_at__lte=now - AGAIN_AFTER) & ~Q(shared_count=F("count"))
    for item in Item.objects.open().of_kinds(list(ABOUT)).filter(Q(shared_at=None) | changed):
        begin_look(item, now=now)
        if (item.count or 0) >= FEWEST_FAILED:
            count, shared = shared_by(item.rule, but=ABOUT[ItemKind(item.kind)], seed=item.pk, now=now)
            keep_shared(item, shared, count=count)
        elif item.shared:
            keep_shared(item, [], count=item.count)


def shared_by(rule: str, *, but: str, seed: int, now: datetime) -> tuple[int, list[Shared]]:
    """How many devices a rule matches, and what they share that other admitted devices do not: up to three conditions,
    none where nothing is told from chance.

    Conditions are looked for in a sample where the devices are many; what is said of them is counted in all.
    """
    vocabulary = load_vocabulary()
    try:
        node = parse(rule, vocabulary)
    except RuleError:
        return 0, []  # a site or an attribute that it names was deleted since; the item is told anew within a minute
    theirs = set(matching(node, vocabulary, now).values_list("pk", flat=True))
    others = set(Device.objects.filter(admission="admitted").values_list("pk", flat=True)) - theirs
    draw = random.Random(seed)
    some, rest = _drawn(theirs, MOST_DEVICES, draw), _drawn(others, MOST_OTHERS, draw)
    records = load_records([*some, *rest], vocabulary, now)
    ids = [pk for pk in (*some, *rest) if pk in records]
    causes = find_common_causes([records[i] for i in ids], [i in theirs for i in ids], [], vocabulary, but=[but])
    told = (_told(c.node, node, vocabulary, now, of=len(theirs), others=len(others)) for c in causes)
    return len(theirs), [shared for shared in told if shared is not None]


def _drawn(ids: Collection[int], most: int, draw: random.Random) -> list[int]:
    ordered = sorted(ids)
    return ordered if len(ordered) <= most else draw.sample(ordered, most)


def _told(cause: Node, node: Node, vocabulary: Vocabulary, now: datetime, *, of: int, others: int) -> Shared | None:
    both = matching(And((node, cause)), vocabulary, now).count()
    everybody = matching(cause, vocabulary, now).filter(admission="admitted").count()
    share = (everybody - both) / others if others else 0.0
    if both < share * of * TIMES_AS_COMMON:
        return None
    return {"rule": to_text(cause), "words": shared_words(both, of, share)}
