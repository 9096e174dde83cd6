"""Bugs to plant, each in a place that matters, with the tests that could notice. None is in code that only formats.

`./herald test mutants` plants one after another in a copy of the tree and runs those tests; a bug that no test notices
tells what to test next.
"""

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class Bug:
    """In a file, `old` (which stands there once) becomes `new`. `tests` are test files; of the browser's code, vitest
    finds its own."""

    file: str
    old: str
    new: str
    tests: tuple[str, ...] = ()


def core(file: str, old: str, new: str, *tests: str) -> Bug:
    return Bug(file=f"src/herald_core/{file}", old=old, new=new, tests=tuple(f"tests/core/{t}.py" for t in tests))


def server(file: str, old: str, new: str, *tests: str) -> Bug:
    return Bug(file=f"src/herald/{file}", old=old, new=new, tests=tuple(f"tests/{t}.py" for t in tests))


def ctl(file: str, old: str, new: str) -> Bug:
    return Bug(file=f"ctl/src/herald_ctl/{file}", old=old, new=new, tests=("tests/server/test_ctl.py",))


def web(file: str, old: str, new: str) -> Bug:
    return Bug(file=f"web/src/{file}", old=old, new=new)


PYTHON = (
    core(
        "simulation/schedules.py", "<= now < order.not_after", "<= now <= order.not_after", "test_simulated_schedules"
    ),
    core("simulation/schedules.py", "and order.device not in self._in_hand", "", "test_simulated_schedules"),
    core("deliveries.py", "deferred < self.times", "deferred <= self.times", "../server/test_ends_and_hours"),
    server(
        "rollouts/engine/tick.py", "position=ring.position, opened_at=None", "opened_at=None", "server/test_rings_ahead"
    ),
    server("rollouts/intervene/rings_ahead.py", "if told.unplaced:", "if False:", "server/test_rings_ahead"),
    server("rollouts/intervene/rings_ahead.py", "if ring not in stays", "if True", "server/test_rings_ahead"),
    server(
        "rollouts/intervene/rings_ahead.py",
        ", offered_at=None), last)",
        ", offered_at=None), rings[0].pk)",
        "server/test_rings_ahead",
    ),
    server("rollouts/compose/usual_hours.py", "window_start__isnull=False, ", "", "server/test_ends_and_hours"),
    server(
        "deliveries/services.py",
        "report.notice_shown and delivery.notice_shown_at is None",
        "report.notice_shown",
        "server/test_ends_and_hours",
    ),
    server("deliveries/services.py", "times_deferred=d.times_deferred,", "", "server/test_ends_and_hours"),
    server("gateway/flush.py", "r.live_asked_at > now - ASKED_FOR", "True", "server/test_live_view"),
    server(
        "gateway/flush.py",
        "r.live_until is not None and r.live_until > now",
        "r.live_until is not None",
        "server/test_live_view",
    ),
    server(
        "commands/firing.py",
        "able = _not_fired_before(able, schedule, local_time)",
        "pass",
        "server/test_firing_accounts",
    ),
    server("deliveries/querysets.py", "cursor & 1 == 1", "True", "server/test_pages"),
    core("rollouts/status.py", "if unheard >= taken + offered:", "if unheard > taken + offered:", "test_status"),
    core("rollouts/status.py", "State.MOVING if taken else State.OFFERED", "State.MOVING", "test_status"),
    core("rollouts/status.py", 'if state in ("stopped", "finished")', 'if state == "stopped"', "test_status"),
    core("schedules.py", "if in_hand > offered:", "if in_hand >= offered > 0:", "test_schedules"),
    core("rings/gates.py", "counts.failed < MIN_FAILURES", "counts.failed < 1", "test_rings"),
    core("rings/gates.py", "if certainty < HALT_CERTAINTY:", "if certainty < 0.5:", "test_rings"),
    core("rings/gates.py", "tried_met = counts.tried >= needed", "tried_met = True", "test_rings"),
    core("rings/gates.py", "soaked >= spec.soak", "soaked >= spec.soak / 2", "test_rings"),
    core("rings/gates.py", "phases.get(Phase.CONFIRMED, 0) - lost", "phases.get(Phase.CONFIRMED, 0)", "test_rings"),
    core("rings/gates.py", "unheard <= spec.max_unreached", "unheard < spec.max_unreached", "test_rings"),
    core(
        "deliveries.py",
        'NOT_RETRYABLE = frozenset({"no-space"})',
        "NOT_RETRYABLE: frozenset[str] = frozenset()",
        "test_deliveries",
    ),
    core(
        "deliveries.py", "report.counter <= order.counter and", "report.counter < order.counter and", "test_deliveries"
    ),
    core("deliveries.py", "if not healthy and order.phase in RECALLABLE:", "if False:", "test_deliveries"),
    core("deliveries.py", 'report.boot not in ("", order.boot)', "report.boot != order.boot", "test_deliveries"),
    core("preflight.py", "battery < least", "battery <= least", "test_preflight"),
    core("preflight.py", "space < way.free_space_mb", "space <= way.free_space_mb", "test_preflight"),
    core("preflight.py", "key > target.key and not self._downgrades", "False", "test_preflight"),
    core("preflight.py", 'if device.admission == "retired":', 'if device.admission == "gone":', "test_preflight"),
    core("upgrades.py", "and (build.key > at) is up and", "and", "test_upgrades"),
    core("upgrades.py", "if b.current and is_within", "if is_within", "test_upgrades"),
    core("timing/windows.py", "begins <= now < ends", "begins <= now <= ends", "test_timing"),
    core("timing/windows.py", "now + needed < closes", "now + needed <= closes", "test_timing"),
    core("timing/windows.py", "begins >= now and ends > begins", "begins >= now", "test_timing"),
    core("timing/recurrence.py", "skipped = between // months - 1", "skipped = between // months", "test_recurrence"),
    core("answers.py", "if phase is Phase.EXPIRED:", "if phase is Phase.FAILED:", "test_answers"),
    core("parameters.py", "for key in sorted(set(given) - set(properties)):", "for key in ():", "test_parameters"),
    core("timing/firings.py", "if at > last:", "if at >= last:", "test_recurrence"),
    core("facts.py", "shares.get(kind, 0) >= SHARE * total", "shares.get(kind, 0) >= 0.5 * total", "test_facts"),
    core("facts.py", "and not _ADDRESS.match(text)", "", "test_facts"),
    core(
        "rules/lexer.py",
        "self.value.lower() if self.kind is Kind.WORD",
        "self.value if self.kind is Kind.WORD",
        "test_rules_language",
    ),
    core(
        "rules/evaluate.py",
        "return value is not None and test(value)",
        "return value is None or test(value)",
        "test_rules_meaning",
    ),
    core("timing/spread.py", "return begins + length * place", "return begins", "test_spread"),
    core("common_causes.py", "(k >= FEWEST_FAILED)", "(k >= 1)", "test_common_causes"),
    core("common_causes.py", "(q <= FALSE_DISCOVERIES)", "(q <= 1.0)", "test_common_causes"),
    core(
        "edits.py",
        "t not in change.remove_tags or t in change.add_tags",
        "t not in change.remove_tags",
        "test_sieve_and_edits",
    ),
    server("people/throttling.py", "row.failures >= free", "row.failures > free + 100", "server/test_roles"),
    server(
        "people/models.py",
        "Ability.OWN, Ability.APPROVE, Ability.STOP, Ability.COMMENT}",
        "Ability.OWN, Ability.APPROVE, Ability.STOP, Ability.COMMENT, Ability.OPERATE}",
        "server/test_roles",
    ),
    server("attention/quarantine.py", "known.retry_at > self.now", "False", "server/test_quarantine"),
    server(
        "calendar/services.py",
        "if freeze.everywhere:\n        return Q(pk__isnull=False)",
        "if freeze.everywhere:\n        return Q(pk__isnull=True)",
        "server/test_waiting",
        "server/test_command_guards",
    ),
    server("clock/heartbeat.py", "heartbeat.beat_at < real_now - AWAY", "False", "server/test_troubles"),
    server("commands/firing.py", "able = _not_fired_before(able, schedule, local_time)", "", "server/test_commands"),
    server(
        "commands/compose.py",
        "fire_due(schedule, Device.objects.zones(), now)  # what",
        "pass  # what",
        "server/test_commands",
    ),
    server(
        "commands/turn.py",
        "fresh = Schedule.objects.locked().filter(pk=schedule.pk, state=ScheduleState.ACTIVE).first()",
        "fresh = schedule",
        "server/test_commands",
    ),
    server("pieces.py", "file.truncate(offset)", "pass", "server/test_command_watch"),
    server("gateway/outputs.py", "device__secret_hash=secret_hash", "", "gateway/test_commands"),
    server(
        "commands/compose.py",
        "if template.harm != Harm.GENTLE and reached",
        "if False and reached",
        "server/test_command_guards",
    ),
    server(
        "commands/services.py",
        "schedule.fired_through, schedule.quiet_until = now, None  # firings",
        "schedule.quiet_until = None  # firings",
        "server/test_commands",
    ),
    server("edits/services.py", "if not holds(present.get(r.device_id), r.after)", "if False", "server/test_edits"),
    server("catalog/facts.py", "and not rules_naming(key):\n        before", ":\n        before", "server/test_facts"),
    server(
        "fleet/presence.py",
        "SILENT_INTERVALS = 10",
        "SILENT_INTERVALS = 1000",
        "server/test_find",
        "server/test_rule_agreement",
    ),
    server(
        "fleet/services.py",
        "if not by and word.isascii() and word.isdigit():",
        "if False:",
        "server/test_calling_devices",
    ),
    server(
        "gateway/enrolment.py", "if code.uses_left == 0:", "if code.uses_left == -1:", "gateway/test_enrolment_codes"
    ),
    server(
        "gateway/enrolment.py", "if device is None and code.known_only:", "if False:", "gateway/test_enrolment_codes"
    ),
    server("gateway/flush.py", "if told:\n", "if False:\n", "gateway/test_flush"),
    server("groups/audience.py", "if not include and not named:", "if not include:", "server/test_named_audiences"),
    server(
        "groups/audience.py",
        "devices = devices.filter(~Exists(outside))",
        "pass",
        "server/test_named_audiences",
        "server/test_commands",
    ),
    server("groups/consequences/acceptance.py", "effect.joins > _most(known[0])", "False", "server/test_consequences"),
    server(
        "images/services.py",
        "if actor is not None and image.added_by_id == actor.pk:",
        "if False:",
        "server/test_uploads",
        "server/test_roles",
    ),
    server("images/signing.py", '"sha256": image.sha256,\n    }', '"sha256": "",\n    }', "server/test_images"),
    server("imports/undoing.py", "if plan.changed:", "if False:", "server/test_lifecycle"),
    server("imports/planning.py", "if not row.problem else", "if True else", "server/test_import_bounds"),
    server("lifecycle/removing.py", "if locked.admission != Admission.RETIRED:", "if False:", "server/test_lifecycle"),
    server(
        "lifecycle/replacing.py",
        '"admission": "retired"}',
        '"admission": before["admission"]}',
        "server/test_lifecycle",
    ),
    server(
        "rollouts/engine/reconcile.py",
        'F("boots_before") + RESTARTS',
        'F("boots_before") + 100',
        "server/test_evidence",
    ),
    server(
        "rollouts/intervene/holds.py",
        'filter(phase=Phase.WAITING.value, hold_reason=""), reason',
        "filter(phase=Phase.WAITING.value), reason",
        "server/test_holding",
    ),
    server("http/parameters.py", "if parameter is None:", "if False:", "server/test_parameters"),
    server(
        "record/services.py",
        "        actor=actor,\n        token",
        "        actor=None,\n        token",
        "server/test_roles",
        "server/test_calls_by_name",
    ),
    server(
        "deliveries/querysets.py",
        "return self.filter(phase__in=[p.value for p in RECALLABLE], not_after__lte=now)",
        "return self.filter(phase__in=[p.value for p in RECALLABLE], not_after__lte=now - timedelta(days=9))",
        "server/test_clock",
    ),
    server(
        "deliveries/querysets.py", "word__lt=no_word, not_after__lt=now", "word__lt=no_word", "server/test_evidence"
    ),
    server("deliveries/time_outs.py", "fleet_silence(now) is not None", "False", "server/test_evidence"),
    server("rollouts/engine/tick.py", " and ring is not rings[-1]", "", "server/test_rollouts"),
    core("timing/yearly.py", "if ends > after:", "if begins >= after:", "test_calendar_times"),
    core("timing/yearly.py", "day=28)", "day=27)", "test_calendar_times"),
    core("timing/firings.py", "utcoffset() != offset:", "utcoffset() is None:", "test_calendar_times"),
    core("timing/windows.py", "ends - begins < needed:", "ends - begins <= needed:", "test_calendar_times"),
    server("http/outbound.py", "    _check_allowed(literal, url.host)\n", "", "server/test_outbound"),
    server("http/outbound.py", "if address in _TRANSLATED:", "if False:", "server/test_outbound"),
    server("http/outbound.py", "following = check_address(", "following = URL(", "server/test_outbound"),
    server("http/outbound.py", "if len(body) > most_bytes:", "if False:", "server/test_outbound"),
    server("calendar/sources.py", "kept.url != source.url", "False", "server/test_calendar_sources"),
    server("calendar/sources.py", "and f.ends_at > now]", "]", "server/test_calendar_sources"),
    server("agenda/moves.py", "        transaction.set_rollback(True)\n", "", "server/test_calendar_moves"),
    server("agenda/moves.py", "{name: -move.change[name]", "{name: move.change[name]", "server/test_calendar_moves"),
    server("agenda/feed.py", "owner__is_active=True", "owner__isnull=False", "server/test_calendar_feed"),
    server(
        "agenda/feed.py",
        "kept.cancelled_at, kept.sequence = now, kept.sequence + 1",
        "kept.cancelled_at, kept.sequence = now, kept.sequence",
        "server/test_calendar_feed",
    ),
    server("commands/tallies.py", "and pk not in late", "", "server/test_calendar"),
    server(
        "commands/tallies.py",
        'TallyKind.GROUP: "device__memberships__group_id"',
        'TallyKind.GROUP: "device__site_id"',
        "server/test_calendar",
    ),
    server("agenda/load.py", "round(float(n / each), 2)", "round(float(n), 2)", "server/test_uplinks"),
    server("agenda/load.py", "(bar >= 0) & ", "", "server/test_calendar"),
    server(
        "deliveries/command_querysets.py",
        'Q(occurrence=None) | Q(occurrence__detail="whole")',
        "Q()",
        "server/test_failed_days",
    ),
    server("commands/querysets.py", "AND detail <> 'whole' AND row", "AND row", "server/test_failed_days"),
    server(
        "samples/api/views.py",
        "since.replace(hour=0, minute=0, second=0, microsecond=0)",
        "since",
        "server/test_failed_days",
    ),
    server("db/moments.py", "_DRIVERS(oid, None)", "_DRIVERS(oid, context)", "server/test_moments"),
    server("http/outbound.py", "if authorization and url.origin() == origin else {}", "", "server/test_outbound"),
    server("lists/services.py", "or (leaves == of > 0 and not joins)", "", "server/test_followed_lists"),
    server(
        "lists/services.py",
        "today > kept.unasked_a_day",
        "today > 3 + kept.unasked_a_day",
        "server/test_followed_lists",
    ),
    server("http/outbound.py", "origin_of(known.url) == origin_of(url)", "True", "server/test_followed_lists"),
    server(
        "lists/services.py",
        "kept is None or _place(kept) != _place(followed)",
        "kept is None",
        "server/test_followed_lists",
    ),
    server(
        "lists/services.py",
        "    found.leave_out_refused(group)  # what was true as the list was read may be so no more\n",
        "",
        "server/test_followed_lists",
    ),
    server("groups/members.py", "        check_by_hand(other)\n", "", "server/test_followed_lists"),
    server("imports/repeating.py", "actor is None and digest == kept.digest", "False", "server/test_repeated_imports"),
    server(
        "imports/repeating.py",
        'made, digest, actor is not None, ""',
        'made, digest, False, ""',
        "server/test_repeated_imports",
    ),
    server(
        "imports/repeating.py",
        "actor=None, now=now, agreement=Agreement()",
        "actor=None, now=now",
        "server/test_repeated_imports",
    ),
    server(
        "imports/repeating.py", "found.wrong_count and repeated.all_or_nothing", "False", "server/test_repeated_imports"
    ),
    server(
        "samples/mail_contents.py", "Item.objects.open().listed()", "Item.objects.listed()", "server/test_report_mails"
    ),
    server("agenda/counts.py", 'f"{schedule.pk}.{schedule.revision}"', 'f"{schedule.pk}"', "server/test_kept_counts"),
    server("agenda/rows.py", "known.groups != self.groups", "False", "server/test_kept_counts"),
    server("agenda/keeping.py", "if e.pk in over ", "", "server/test_kept_counts"),
    server("agenda/keeping.py", "- USABLE)", "- 9 * USABLE)", "server/test_kept_counts"),
    server(
        "limits/policies.py", '"agenda_keptcounts": _NOTHING', '"agenda_keptcounts": _SHARED', "server/test_kept_counts"
    ),
    server(
        "rollouts/models.py",
        "if self.state == RolloutState.RUNNING else None",
        "if True else None",
        "server/test_uplinks",
    ),
    server(
        "rollouts/watch/stored_forecasts.py",
        "key=lambda site: (-full[site], site)",
        "key=lambda site: (full[site], site)",
        "server/test_uplinks",
    ),
    core(
        "forecast/transfers.py",
        "share = np.minimum(ends, hour + 1)",
        "share = np.minimum(ends, hour + 2)",
        "test_transfers",
    ),
    server(
        "rollouts/watch/turns.py",
        "rollout__rank__lt=rollout.rank",
        "rollout__rank__gt=rollout.rank",
        "server/test_suggest_hours",
    ),
    server("rollouts/watch/turns.py", "if key >= targets[device]", "if True", "server/test_suggest_hours"),
    server(
        "rollouts/watch/turns.py", "if pk in running else inf", "if pk in running else 0.0", "server/test_suggest_hours"
    ),
    server(
        "rollouts/intervene/edit.py",
        "[rollout.pk, *(pk for pk in _order() if pk != rollout.pk)]",
        "_order()",
        "server/test_suggest_hours",
    ),
    core("proposals.py", "min(nearly, (1 - WORTH_IT) * gentlest[1].median)", "0.0", "test_proposals"),
    server("agenda/rollouts.py", "if is_running else {}", "if True else {}", "server/test_calendar"),
    core("proposals.py", "return bool(2 * end.high - end.median <= deadline)", "return True", "test_proposals"),
    core("proposals.py", "if e[1].median <= middle", "if True", "test_proposals"),
    core(
        "proposals.py",
        "if soonest[1].median < (1 - WORTH_IT) * gentlest",
        "if soonest[1].median < 1.0 * gentlest",
        "test_proposals",
    ),
    server(
        "agenda/proposals.py",
        "hours=basis.hours_with(plan.window, now, closed)",
        "hours=basis.hours_with(plan.window, now)",
        "server/test_suggest_hours",
    ),
    server("db/limits.py", "_hold_to(before)", "_hold_to(None)", "server/test_limits"),
    server("db/limits.py", "held = getattr(connection, _KEPT, None)", "held = None", "server/test_limits"),
    server(
        "limits/policies.py",
        "(NOT held.by_itself OR s.id IN",
        "(true OR s.id IN",
        "server/test_tokens",
    ),
    server("limits/policies.py", "(NOT held.by_owner OR f.id IN", "(true OR f.id IN", "server/test_tokens"),
    server("limits/policies.py", """_IN_PERSON = f"{_TOKEN} = '{{}}'\"""", '_IN_PERSON = "true"', "server/test_tokens"),
    server("limits/services.py", "if limits is not None and user.is_limited:", "if False:", "server/test_tokens"),
    server("people/permissions.py", "if opens is Tokens.NONE:", "if False:", "server/test_tokens"),
    server("people/permissions.py", "if token is not None and token.reads_only:", "if False:", "server/test_tokens"),
    server(
        "people/permissions.py",
        "token.pk if token is not None and token.is_limited else None",
        "None",
        "server/test_tokens",
    ),
    server("people/tokens.py", "user.by_token = details", "pass", "server/test_tokens"),
    server("people/tokens.py", "now - token.used_at >= USED_EVERY", "False", "server/test_tokens"),
    server("people/tokens.py", "if details is None:", "if False:", "server/test_tokens"),
    server("record/chain.py", "return by_token | {", "return {", "server/test_tokens"),
    server(
        "record/chain.py",
        "digest, expected, batch_at, earlier = begun.hash, begun.position + 1, None, None",
        "digest, expected, batch_at, earlier = BEGINNING, 1, None, None",
        "server/test_retention",
    ),
    server("record/retention.py", "and hash_of(digest, entry) == link.hash", "", "server/test_retention"),
    server("record/retention.py", "if entry.at >= before:", "if False:", "server/test_retention"),
    server("retention/running.py", "kept is None or kept.days is None", "kept is None", "server/test_retention"),
    server(
        "retention/running.py",
        "if kept.archives else saving_nowhere",
        "if False else saving_nowhere",
        "server/test_retention",
    ),
    server("retention/services.py", "if goes and goes != confirmed:", "if False:", "server/test_retention"),
    server("retention/services.py", "not kind.least <= days <= MOST_DAYS", "False", "server/test_retention"),
    server("retention/kinds.py", "None if is_used else kind.days", "kind.days", "server/test_retention"),
    server("retention/archive.py", "if not path.exists():", "if True:", "server/test_retention"),
    server("commands/retention.py", "tally_again(occurrence)", "pass", "server/test_retention"),
    server("commands/retention.py", "if len(found) < most:", "if True:", "server/test_retention"),
    server(
        "commands/querysets.py", 'begun = self.filter(detail="going")', "begun = self.none()", "server/test_retention"
    ),
    server(
        "commands/querysets.py",
        "older = models.Q(local_time__lt=Subquery(latest))",
        "older = models.Q()",
        "server/test_retention",
    ),
    server(
        "commands/watch.py", "pk__in=occurrences, detail=Detail.WHOLE", "pk__in=occurrences", "server/test_retention"
    ),
    server("groups/history.py", "if gone is not None and moment < gone:", "if False:", "server/test_retention"),
    server("groups/retention.py", "add_totals(KEY, days)", "pass", "server/test_retention"),
    server("notifications/retention.py", '.exclude(pk__in=about_open.values("pk"))', "", "server/test_retention"),
    server("rollouts/retention.py", "filter(ended_at__lt=before).first()", "first()", "server/test_retention"),
    server(
        "rollouts/watch/steps.py",
        "return _read(kept.told) if kept else counted_steps(rollout)",
        "return counted_steps(rollout)",
        "server/test_retention",
    ),
    server(
        "clock/silent_sites.py",
        "SILENT_BELOW, BACK_ABOVE = 0.1, 0.5",
        "SILENT_BELOW, BACK_ABOVE = 0.1, 0.1",
        "server/test_outages",
    ),
    server("clock/silent_sites.py", "if fleet_silence(now) is not None:", "if False:", "server/test_outages"),
    server("clock/silent_sites.py", "and pk not in ends", "", "server/test_outages"),
    server(
        "clock/silent_sites.py",
        "if not together and len(apart) + len(fallen) <= MOST_APART:",
        "if True:",
        "server/test_outages",
    ),
    server(
        "fleet/querysets.py",
        "heard_in_time(now) | Q(check_in_interval_seconds__gte=patience)",
        "heard_in_time(now)",
        "server/test_outages",
    ),
    server(
        "clock/conditions.py",
        "found = expected_silent(planned) | Q(site__in=[s.site for s in silent])",
        "found = expected_silent(planned)",
        "server/test_outages",
    ),
    server("clock/conditions.py", "{SILENT_RULE}{rest_of_rule}", "{SILENT_RULE}", "server/test_outages"),
    core("common_causes.py", "{*NON_CATEGORICAL, *but}", "NON_CATEGORICAL", "test_common_causes"),
    core("common_causes.py", "digits), 0.1), 99.9)", "digits), 0), 100)", "test_common_causes"),
    server("clock/shared_causes.py", ' & ~Q(shared_count=F("count"))', "", "server/test_shared_causes"),
    server(
        "clock/shared_causes.py", "shared_at__lte=now - AGAIN_AFTER", "shared_at__lte=now", "server/test_shared_causes"
    ),
    server(
        "clock/shared_causes.py",
        '.values_list("pk", flat=True)) - theirs',
        '.values_list("pk", flat=True))',
        "server/test_shared_causes",
    ),
    server("clock/shared_causes.py", "(everybody - both) / others", "everybody / others", "server/test_shared_causes"),
    server(
        "clock/shared_causes.py", "if both < share * of * TIMES_AS_COMMON:", "if False:", "server/test_shared_causes"
    ),
    server(
        "people/models.py", "ADMINISTRATOR or self.by_token is not None", "ADMINISTRATOR", "server/test_standing_in"
    ),
    server("people/models.py", "ended_at=None, ends_at__gt=clock.now())", "ended_at=None)", "server/test_standing_in"),
    server("people/api/slowing.py", "if wait > timedelta(0):", "if False:", "server/test_proofs"),
    server("people/api/slowing.py", "if isinstance(error, self._refusal):", "if True:", "server/test_proofs"),
    server("people/standing_in.py", "    end_expired(now=now)\n    try", "    try", "server/test_standing_in"),
    server("people/standing_in.py", " or one.person.role != Role.ADMINISTRATOR", "", "server/test_standing_in"),
    server(
        "notifications/announcing.py", "if item.kind == ItemKind.STANDING_IN:", "if False:", "server/test_standing_in"
    ),
    server(
        "notifications/announcing.py", " | Q(rule=None, item__kind=ItemKind.STANDING_IN)", "", "server/test_standing_in"
    ),
    server("clock/shared_causes.py", "elif item.shared:", "elif False:", "server/test_shared_causes"),
    server("notifications/mail.py", " or message.occasion != Occasion.OPENED", "", "server/test_notifications"),
    server("outages/services.py", "put_off_until=outage.ends_at", "put_off_until=now", "server/test_outages"),
    server("clock/silent_sites.py", "if of_groups and quiet:", "if False:", "server/test_outages"),
    server(
        "limits/policies.py",
        "UPDATE (name, time_zone, password, last_login, seen_at, last_visit_ended_at)",
        "UPDATE",
        "server/test_limits",
    ),
    server(
        "limits/policies.py",
        "i.rollout_id = rollout AND NOT herald_reaches(i.device_id)",
        "false",
        "server/test_limits",
    ),
    server("people/permissions.py", "begin_limits(user.pk, token", "str(token", "server/test_limits"),
    server(
        "people/permissions.py", "if request.method not in open_within_limits(view):", "if False:", "server/test_limits"
    ),
    server("live/events.py", "if not names_objects:", "if False:", "server/test_live"),
    server(
        "notifications/announcing.py",
        'return item.object_kind in ("rollout", "schedule") and sees(',
        "return True or sees(",
        "server/test_limits",
    ),
    server("agenda/feed.py", "found.owner_id if found.owner.is_limited else None", "None", "server/test_limits"),
    server("limits/services.py", "    drop_waiting([user.pk])", "    pass", "server/test_limits"),
    server("groups/folders.py", "f.parent_id if f.parent_id in seen else None", "f.parent_id", "server/test_limits"),
    server("rollouts/preflight/plan.py", "rank is None or ", "", "server/test_limits"),
    server("people/second_factor.py", "candidate > factor.last_step and ", "", "server/test_second_factor"),
    server("people/passkeys.py", "if made_at <= passkey.challenge_at:", "if False:", "server/test_passkeys"),
    server("people/passkeys.py", "found is None or found.pk != user.pk", "found is None", "server/test_passkeys"),
    server("people/passkeys.py", " or not passkey.person.is_active", "", "server/test_passkeys"),
    server("people/passkeys.py", "if not is_for_it or not 0 <= age", "if not 0 <= age", "server/test_passkeys"),
    server("people/passkeys.py", "is_last = person.passkeys.count() == 1", "is_last = False", "server/test_passkeys"),
    server(
        "people/passkeys.py",
        "                credential_current_sign_count=passkey.uses,\n                require_user_verification=True,",
        "                credential_current_sign_count=passkey.uses,",
        "server/test_passkeys",
    ),
    server("people/accounts.py", "    forget_ways_in([user.pk])\n", "", "server/test_passkeys"),
    server(
        "people/permissions.py", "token is None and is_marked(request._request)", "False", "server/test_wanted_factor"
    ),
    server(
        "people/set_up_first.py",
        "        request.session.pop(_MARK, None)\n\n\ndef is_marked",
        "        pass\n\n\ndef is_marked",
        "server/test_wanted_factor",
    ),
    server("people/wanted.py", "        ended = end_sessions(weak)", "        ended = 0", "server/test_wanted_factor"),
    server("people/api/welcome.py", "is_strong=made is not None", "is_strong=True", "server/test_wanted_factor"),
    server("people/api/views.py", " and user.passkeys.exists()", " and False", "server/test_wanted_factor"),
    server("asgi.py", " and not is_marked(request)", "", "server/test_live"),
    server(
        "people/second_factor.py",
        "digest=_digest(code), used_at=None",
        "digest=_digest(code)",
        "server/test_second_factor",
    ),
    server(
        "people/second_factor.py",
        "if not holds(user, code, now=now, real_now=real_now):",
        "if False:",
        "server/test_second_factor",
    ),
    server(
        "people/api/views.py",
        "                note_failure(email, address)\n                raise",
        "                raise",
        "server/test_second_factor",
    ),
    core("rings/assignment.py", "chosen[may_be_drawn[chosen]]", "chosen", "test_rings"),
    server("people/accounts.py", "expires_at__gt=now", "expires_at__gte=now", "server/test_people"),
    server(
        "people/accounts.py",
        "        _let_go(people, now)\n        AuthToken",
        "        AuthToken",
        "server/test_people",
    ),
    server("people/accounts.py", "user.set_unusable_password()", "pass", "server/test_people"),
    server("people/own.py", '.exclude(key=session_key or "")', "", "server/test_people"),
    server(
        "people/api/welcome.py", '"invitation", NotFound,', '"invitation", ZeroDivisionError,', "server/test_people"
    ),
    server("notifications/announcing.py", "item.count >= rule.at_least", "True", "server/test_notifications"),
    server("notifications/announcing.py", "now >= latest + pause", "now > latest", "server/test_notifications"),
    server("notifications/announcing.py", ", acknowledged_at=None", "", "server/test_notifications"),
    server("notifications/querysets.py", ".exclude(over)", "", "server/test_notifications"),
    server(
        "notifications/sending.py", "real_now + PAUSES[message.attempts - 1]", "real_now", "server/test_notifications"
    ),
    server(
        "notifications/querysets.py",
        "claimed_until__lt=real_now",
        "claimed_until__gt=real_now",
        "server/test_notifications",
    ),
    server("notifications/webhook.py", ".encode() + body", ".encode()", "server/test_notifications"),
    server("http/outbound.py", "data=body, allow_redirects=False", "data=body", "server/test_notifications"),
    server("now/watching.py", "if not t.ready and", "if", "server/test_watching"),
    server("clock/lease.py", "OR clock_lease.ends_at < %s", "OR clock_lease.ends_at > %s", "server/test_watching"),
    server("record/chain.py", 'f"{before}\\n{text}"', "text", "server/test_record_chain"),
    server("record/chain.py", '"after": entry.after,', "", "server/test_record_chain"),
    server("record/chain.py", "entry.at < earlier - TOLERANCE", "False", "server/test_record_chain"),
    server("http/requests.py", "_WELL_FORMED.fullmatch(given)", "given", "server/test_metrics"),
    server("people/replays.py", "if not takes_keys(call):", "if False:", "server/test_idempotency"),
    server("people/replays.py", "if response.status_code >= 400:", "if False:", "server/test_idempotency"),
    server("people/idempotency.py", "kept.fingerprint != fingerprint", "False", "server/test_idempotency"),
    server("people/idempotency.py", "if not place.lock():", "if False:", "server/test_idempotency"),
    server("people/idempotency.py", "{user.pk} {token} {key}", "{user.pk} {key}", "server/test_idempotency"),
    server("people/idempotency.py", "if is_dry_run(request):", "if False:", "server/test_idempotency"),
    server("people/idempotency.py", "len(body) <= MOST_BYTES", "True", "server/test_idempotency"),
    server("people/idempotency.py", "request.get_full_path()", "''", "server/test_idempotency"),
    server("people/rates.py", "settings.TOKEN_CALLS - len", "settings.TOKEN_CALLS - 1 - len", "server/test_rates"),
    server("people/tokens.py", "with beyond_limits():", "if True:", "server/test_tokens"),
    server("configuration/services.py", "if plan.digest != digest:", "if False:", "server/test_configuration"),
    server("configuration/services.py", "in reversed(in_order)", "in in_order", "server/test_configuration"),
    server("configuration/services.py", "if len(refused) == len(waiting):", "if refused:", "server/test_configuration"),
    server("configuration/services.py", "deletes and kind.delete is not None", "deletes", "server/test_configuration"),
    server("configuration/services.py", "Agreement(dry_run=True)", "None", "server/test_configuration"),
    server("configuration/kinds.py", 'd["rule"].strip()', 'd["rule"]', "server/test_configuration"),
    server("configuration/groups.py", 'if "kind" in differs:', "if False:", "server/test_configuration"),
    server("configuration/kinds.py", 'folder_at(d["path"][:-1], ', "folder_at([], ", "server/test_configuration"),
    core("configuration.py", "sorted(set(present) - set(wanted))", "sorted(set(present))", "test_configuration"),
    core("configuration.py", "or defaults[k] != v", "", "test_configuration"),
    ctl("api.py", 'headers["Idempotency-Key"] = str(uuid.uuid4())', "pass"),
    ctl("api.py", "if not tries_left or not _may_pass(answer):", "if True:"),
    ctl("printing.py", "*range(127, 160), ", ""),
    ctl("acting.py", "if (question := _QUESTIONS[verb](rollout)) and not yes:", "if False:"),
    ctl("finding.py", "if len(all_found) > 1:", "if False:"),
    ctl("configuring.py", "position - self.sources[kind].index(source)", "position"),
    ctl("configuring.py", "if tag not in _OWN", ""),
    core("timing/quiet.py", "here >= begin or here < end", "here >= begin", "test_quiet"),
    core("timing/quiet.py", "if moment > now and", "if moment >= now and", "test_quiet"),
    core("timing/quiet.py", " and day.weekday() in days", "", "test_quiet"),
)

WEB = (
    web("api/once.ts", "unanswered.get(call) ?? newKey()", "newKey()"),
    web("api/once.ts", "!(await mayStillCome(response))", "true"),
    web("api/once.ts", "(own|session|tokens|welcome)", "(own|session|tokens)"),
    web("rooms/rollouts/rings.ts", "share / (100 - share)", "share / 100"),
    web("rooms/rollouts/rings.ts", "rings.slice(0, -1), added", "rings, added"),
    web("rooms/rollouts/rings.ts", "to >= rings.length", "to > rings.length"),
    web("rooms/fleet/live-changes.ts", "[...more, ...kept]", "[...kept, ...more]"),
    web("rooms/rollouts/draft.ts", 'freeze_override_reason: "",\n});', "});"),
    web(
        "rooms/rollouts/draft.ts",
        "draft.include.length + (draft.include_devices ?? []).length === 0",
        "draft.include.length < 0",
    ),
    web("rooms/rollouts/draft.ts", "if (!ring.name.trim()) gaps.push", "if (ring.name.trim()) gaps.push"),
    web("rooms/rollouts/draft.ts", "  prefetch: false,\n  prefetch_start: null,\n  prefetch_end: null,\n});", "});"),
    web("rooms/rollouts/draft.ts", "include_devices: devices,", "include_devices: [],"),
    web("parts/typed-count.tsx", "Math.abs(Number(typed) - reached) <= leeway", "true"),
    web("parts/typed-count.tsx", "reached > 0 && ", ""),
    web("rooms/fleet/rule-joins.ts", "? `(${p})` : p", "? p : p"),
    web("rooms/fleet/rule-joins.ts", ".includes(clauseOf(field, value))", ".includes(field)"),
    web("rooms/fleet/rule-joins.ts", "at === 0 ? 0 : at - 1", "at"),
    web("api/topics.ts", "id === null ? [topic] : [topic, id]", "[topic]"),
    web("lib/latest.ts", "known.earlier += 1", "known.earlier += 0"),
    web("rooms/groups/branches.ts", "&& f.id !== moving", ""),
    web("rooms/groups/branches.ts", "if (open) walk(folder.id, depth + 1);", "walk(folder.id, depth + 1);"),
    web("rooms/groups/ids-in.ts", "[...new Set(", "[...Array.from("),
    web("rooms/library/upload.ts", "error.status === 409", "error.status === 410"),
    web("rooms/library/upload.ts", "failures >= TRIES", "failures >= 1000"),
    web(
        "rooms/fleet/edit-body.ts",
        'return { ...body, admission: "retired" };',
        'return { ...body, admission: "admitted" };',
    ),
    web(
        "rooms/fleet/edit-body.ts",
        "return words.length ? { ...body, remove_tags: words } : null;",
        "return { ...body, remove_tags: words };",
    ),
    web("parts/clauses.ts", "&& !/^(and|or|not)$/i.test(value)", ""),
    web("parts/clauses.ts", "filled.length < wanted", "filled.length < 0"),
    web("lib/ring-words.ts", "r.needs_approval ?? false,", ""),
    web("rooms/rollouts/compare.tsx", "share: total ? p.confirmed / total : 0,", "share: p.confirmed / total,"),
    web(
        "api/agreement.ts",
        "if (!(await ask(body as Consequences))) return undefined;",
        "await ask(body as Consequences);",
    ),
    web("api/handed-over.ts", 'filter((name) => typeof name === "string")', "filter(() => true)"),
    web("rooms/record/changed-keys.ts", "JSON.stringify(was[key]) !== JSON.stringify(is[key])", "was[key] !== is[key]"),
    web("rooms/notifications/rule-words.ts", "n % 60 === 0", "n > 60"),
    web("lib/time-text.ts", "hour > 23 ||", "hour > 24 ||"),
    web("rooms/calendar/model.ts", "% 1440) + 1440) % 1440", "% 1440) + 1440)"),
    web("rooms/calendar/model.ts", 'edge === "end" ? 0 : minutes', "minutes"),
    web("rooms/calendar/model.ts", "devicesIn(f.devices, row) > 0", "true"),
    web("rooms/calendar/model.ts", "place - last.place < apart", "place - last.place < 0"),
)
