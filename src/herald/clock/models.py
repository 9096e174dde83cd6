"""Time as the whole installation sees it (without a row it is the machine's own), and signs of life of its parts."""

from django.db import models


class TimeBase(models.Model):
    """Ties the installation's time to real time: at `real_origin` it was `herald_origin`, and it
    passes `speed` times as fast. At most one row; only the demo has one."""

    id = models.SmallIntegerField(primary_key=True, default=1)
    real_origin = models.DateTimeField()
    herald_origin = models.DateTimeField()
    speed = models.FloatField()
    #: the last time that the clock process saw, so that a restart never goes back
    last_seen = models.DateTimeField()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=models.Q(id=1), name="time_base_single_row"),
            models.CheckConstraint(condition=models.Q(speed__gt=0), name="time_base_speed_positive"),
        )


class Lease(models.Model):
    """Who of several processes does a thing, until when. Real time."""

    name = models.CharField(max_length=20, primary_key=True)
    owner = models.CharField(max_length=40)
    ends_at = models.DateTimeField()


class Heartbeat(models.Model):
    """A part of the system that beats while it works. `beat_at` is real time, whatever speed the installation has."""

    name = models.CharField(max_length=20, primary_key=True)
    beat_at = models.DateTimeField()
    #: how long its last turn took
    seconds = models.FloatField(default=0.0)
    #: since when (the installation's time) it has beaten without a gap
    back_at = models.DateTimeField()
