"""Which rollouts use a group, or a word in the rule that narrows them."""

from collections.abc import Iterator

from herald.fleet.vocabulary import load_vocabulary
from herald.groups.references import Reference, register_rule_owner, tells_uses
from herald.groups.rules import rule_references
from herald.rollouts.models import RingPlan, Rollout
from herald.rollouts.watch.sentence import short_words
from herald_core.rules import RuleError
from herald_core.rules.rename import rename_value


@tells_uses
def uses_of_group(group_id: int) -> list[Reference]:
    """The open ones that name the group; a standing one reaches whoever joins. And ring plans that name it."""
    plans = RingPlan.objects.filter(archived=False, versions__rings__contains=[{"group_id": group_id}]).distinct()
    return [
        *(Reference(kind="plan", id=p.pk, sentence=f"The ring plan “{p.name}”") for p in plans),
        *(_use(r) for r in Rollout.objects.using_group(group_id)),
    ]


def _use(rollout: Rollout) -> Reference:
    return Reference(
        kind="rollout",
        id=rollout.pk,
        sentence=f"Rollout {rollout.pk} of {short_words(rollout)} ({rollout.get_state_display().lower()})",
        follows=rollout.follows_audience and rollout.launched_at is not None,
    )


class _NarrowingRules:
    """The rules of rollouts that have not ended. One that cannot be read any more names nothing."""

    def naming(self, key: str, word: str | None) -> list[Reference]:
        return [_use(r) for r in self._reading(key, word)]

    def rename(self, key: str, old: str, new: str) -> None:
        for rollout in self._reading(key, old):
            rollout.rule_filter = rename_value(rollout.rule_filter, key, old, new, load_vocabulary())
            rollout.save(update_fields=["rule_filter"])

    def _reading(self, key: str, word: str | None) -> Iterator[Rollout]:
        vocabulary = load_vocabulary()
        for rollout in Rollout.objects.narrowed():
            try:
                if rule_references(rollout.rule_filter, vocabulary, key, word):
                    yield rollout
            except RuleError:
                continue


register_rule_owner(_NarrowingRules())
