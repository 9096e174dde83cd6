"""A scheduled command as one sentence."""

from herald.commands.models import Schedule, When
from herald.groups.audience import audience_words, names_of


def schedule_sentence(schedule: Schedule) -> str:
    """“Restart Greenhouse controllers every day at 05:30 device time, spread over 20 minutes, …”"""
    return "".join(part["text"] for part in sentence_parts(schedule)) + "."


def sentence_parts(schedule: Schedule) -> list[dict[str, str]]:
    """The sentence in pieces; `slot` names what a piece says, and is empty for the words between."""
    parts = [
        {"slot": "template", "text": schedule.get_template_display()},
        {"slot": "", "text": " "},
        {"slot": "audience", "text": audience_words(schedule) or "nobody yet"},
    ]
    exclude = names_of(schedule.exclude.all())
    if exclude:
        parts += [{"slot": "", "text": " "}, {"slot": "exclude", "text": f"without {exclude}"}]
    parts += [{"slot": "", "text": " "}, {"slot": "when", "text": _when(schedule)}, {"slot": "", "text": ", "}]
    parts += [
        {"slot": "spread", "text": f"spread over {minutes_words(schedule.spread_minutes)}"},
        {"slot": "", "text": ", "},
        {"slot": "give_up", "text": f"giving up after {minutes_words(schedule.expires_after_minutes)}"},
    ]
    if schedule.until:
        parts += [{"slot": "", "text": ", "}, {"slot": "until", "text": f"until {schedule.until:%-d %b %Y}"}]
    return parts


def _when(schedule: Schedule) -> str:
    if schedule.when == When.NOW or schedule.time_of_day is None:
        return "now"
    start = f" from {schedule.starts_on:%-d %b %Y}" if schedule.starts_on else ""
    return f"every day at {schedule.time_of_day:%H:%M} device time{start}"


def minutes_words(minutes: int) -> str:
    """Minutes in words: 20 minutes, 2 hours, 1 h 30 min."""
    hours, rest = divmod(minutes, 60)
    if not hours:
        return f"{rest} minute{'s' if rest != 1 else ''}"
    if rest:
        return f"{hours} h {rest} min"
    return f"{hours} hour{'s' if hours != 1 else ''}"
