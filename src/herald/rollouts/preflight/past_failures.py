"""What images of a draft did in earlier rollouts: nobody sends a bad one again without saying why."""

from collections.abc import Collection
from dataclasses import dataclass

from herald.deliveries.models import Delivery
from herald.images.models import Image
from herald.rollouts.models import Rollout


@dataclass(frozen=True, kw_only=True)
class PastFailure:
    """How an image went in one earlier rollout in which it failed."""

    image: int
    version: str
    rollout: int
    failed: int
    tried: int
    halted: bool

    @property
    def sentence(self) -> str:
        """“Drum 3.0.4 failed on 6 of 8 in rollout 4, which halted itself”."""
        end = ", which halted itself" if self.halted else ""
        return f"{self.version} failed on {self.failed} of {self.tried} in rollout {self.rollout}{end}"


def past_failures(rollout: Rollout, image_ids: Collection[int]) -> list[PastFailure]:
    """Earlier rollouts in which these images failed on more devices than the rollout's own limit, or that halted
    themselves; the latest first."""
    counts = Delivery.objects.ends_by_image(image_ids, without=rollout.pk)
    halted_ones = _halted([r for r, _, _, _ in counts])
    names = {i.pk: str(i) for i in Image.objects.filter(pk__in=list(image_ids))}
    found = []
    for other, image, failed, confirmed in counts:
        halted = other in halted_ones
        tried = failed + confirmed
        if failed and (halted or 100.0 * failed / tried > rollout.failure_limit_pct):
            found.append(
                PastFailure(image=image, version=names[image], rollout=other, failed=failed, tried=tried, halted=halted)
            )
    return sorted(found, key=lambda f: (-f.rollout, f.image))


def _halted(rollout_ids: Collection[int]) -> set[int]:
    """Those of the rollouts that halted themselves at some time, whatever became of them since."""
    found = Rollout.objects.filter(pk__in=list(rollout_ids), halted_at__isnull=False)
    return set(found.values_list("pk", flat=True))
