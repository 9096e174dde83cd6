"""Every address of the web server."""

from pathlib import Path

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.urls import path, re_path
from django.views import View
from django.views.decorators.csrf import csrf_exempt, ensure_csrf_cookie
from drf_spectacular.views import SpectacularJSONAPIView, SpectacularSwaggerView

from herald.agenda.api import coming, feeds, moves, proposals
from herald.agenda.api.views import CalendarView
from herald.attention.api import items
from herald.attention.api.views import QuarantineListView, QuarantineTryAction
from herald.calendar.api import sources as calendar_sources
from herald.calendar.api import views as calendar
from herald.catalog.api import codes, facts, reference_data, tags_and_attributes
from herald.commands.api import capabilities as model_capabilities
from herald.commands.api import templates as command_templates
from herald.commands.api import views as commands
from herald.commands.api import watch as command_watch
from herald.commands.api.comments import ScheduleCommentsView
from herald.configuration import api as configuration
from herald.deliveries.api import views as deliveries
from herald.edits.api import views as edits
from herald.find.api import views as find
from herald.fleet.api import capabilities
from herald.fleet.api import views as fleet
from herald.groups.api import views as groups
from herald.groups.api.overview import GroupsOverviewView
from herald.http.errors import problem_response
from herald.images.api import paths, upkeep
from herald.images.api import views as images
from herald.imports.api import repeating as repeated_imports
from herald.imports.api import views as imports
from herald.lifecycle.api import views as lifecycle
from herald.lists.api import views as lists
from herald.notifications.api import views as notifications
from herald.notifications.api.demo_mail import DemoMailView
from herald.now.metrics import MetricsView
from herald.now.pause_views import PauseEverythingView, ResumeEverythingView
from herald.now.since_views import SinceApiView
from herald.now.views import NowApiView, ReadyView
from herald.outages.api import OutageListView, OutageView
from herald.people.api import own, passkeys, people, standing_in
from herald.people.api.tokens import TokenListView, TokenView
from herald.people.api.views import HealthView, SessionView
from herald.people.api.welcome import WelcomeView
from herald.people.permissions import READING
from herald.record.api.views import RecordChoicesView, RecordExportView, RecordListView
from herald.retention.api import RetentionListView, RetentionPreview, RetentionView
from herald.rollouts.api import actions, forecasts, holding, plans, reports, watch
from herald.rollouts.api import views as rollouts
from herald.rollouts.api.comments import RolloutCommentsView
from herald.samples.api.mails import ReportMailListView, ReportMailSendAction, ReportMailView
from herald.samples.api.views import (
    FirmwareReportTableView,
    FirmwareReportView,
    FleetOverTimeView,
    StandingApiView,
)


@ensure_csrf_cookie
def front_end(request: HttpRequest) -> HttpResponseBase:
    """The page; the browser's own router shows the room that the address names."""
    index = Path(settings.WEB_DIST) / "index.html"
    if not index.is_file():
        return HttpResponse("The front end is not built. Run ./herald start, which builds it.", status=503)
    return FileResponse(
        index.open("rb"), headers={"Cache-Control": "no-cache"}, content_type="text/html; charset=utf-8"
    )


@csrf_exempt  # there is nothing to protect, and the answer is problem details for whoever asks
def api_not_found(request: HttpRequest) -> HttpResponseBase:
    detail = f"There is no call {request.path}; /api/v1/schema lists them all."
    return problem_response(404, "not-found", "Not found", detail)


class SchemaView(SpectacularJSONAPIView):
    """The OpenAPI document, for everybody who is signed in."""

    within_limits = READING


class DocsView(SpectacularSwaggerView):
    """The same to read."""

    within_limits = READING


def _route(route: str, view: "type[View]") -> object:
    return path(f"api/v1/{route}", view.as_view())


handler500 = "herald.http.problems.server_error"
urlpatterns = [
    _route("health", HealthView),
    _route("ready", ReadyView),
    _route("quarantine", QuarantineListView),
    _route("quarantine/<int:quarantine_id>/try", QuarantineTryAction),
    _route("session", SessionView),
    _route("session/passkey", passkeys.SessionPasskeyView),
    _route("session/passkey/options", passkeys.SessionPasskeyOptionsAction),
    _route("tokens", TokenListView),
    _route("tokens/<int:token_id>", TokenView),
    _route("own", own.OwnView),
    _route("own/password", own.OwnPasswordAction),
    _route("own/sessions", own.OwnSessionListView),
    _route("own/sessions/end-others", own.OwnSessionsEndOthersAction),
    _route("own/sessions/<int:session_id>", own.OwnSessionView),
    _route("own/second-factor", own.OwnSecondFactorView),
    _route("own/second-factor/confirm", own.OwnSecondFactorConfirmAction),
    _route("own/second-factor/recovery-codes", own.OwnRecoveryCodesAction),
    _route("own/second-factor/take-off", own.OwnSecondFactorTakeOffAction),
    _route("own/passkeys", passkeys.OwnPasskeyListView),
    _route("own/passkeys/options", passkeys.OwnPasskeyOptionsAction),
    _route("own/passkeys/<int:passkey_id>/remove", passkeys.OwnPasskeyRemoveAction),
    _route("own/stand-in", standing_in.OwnStandInView),
    _route("own/messages", notifications.OwnMessagesView),
    _route("own/messages/read", notifications.OwnMessagesReadAction),
    _route("own/messages/test", notifications.OwnTestAction),
    _route("demo/mail", DemoMailView),
    _route("fleet-over-time", FleetOverTimeView),
    _route("fleet-over-time/standing", StandingApiView),
    _route("reports/firmware", FirmwareReportView),
    _route("reports/firmware/table", FirmwareReportTableView),
    _route("report-mails", ReportMailListView),
    _route("report-mails/<int:mail_id>", ReportMailView),
    _route("report-mails/<int:mail_id>/send", ReportMailSendAction),
    _route("own/preference", notifications.OwnPreferenceView),
    _route("notifications", notifications.NotificationRuleListView),
    _route("notifications/sent", notifications.SentMessagesView),
    _route("notifications/<int:rule_id>", notifications.NotificationRuleView),
    _route("channels", notifications.ChannelListView),
    _route("channels/<int:channel_id>", notifications.ChannelView),
    _route("channels/<int:channel_id>/test", notifications.ChannelTestAction),
    _route("people", people.PeopleView),
    _route("people/export", people.PeopleExportView),
    _route("people/invitations", people.InvitationListView),
    _route("people/invitations/<int:invitation_id>", people.InvitationView),
    _route("people/disable", people.PeopleDisableAction),
    _route("people/enable", people.PeopleEnableAction),
    _route("people/remove", people.PeopleRemoveAction),
    _route("people/<int:user_id>", people.PersonView),
    _route("people/<int:user_id>/limits", people.PersonLimitsView),
    _route("people/second-factor-wanted", people.SecondFactorWantedView),
    _route("people/<int:user_id>/new-link", people.PersonNewLinkAction),
    _route("people/<int:user_id>/second-factor/reset", people.SecondFactorResetAction),
    _route("people/limits/preview", people.LimitsPreview),
    _route("welcome/<str:secret>", WelcomeView),
    _route("welcome/<str:secret>/passkey-options", passkeys.WelcomePasskeyOptionsAction),
    _route("now", NowApiView),
    _route("now/since", SinceApiView),
    _route("attention", items.AttentionListView),
    _route("attention/<int:item_id>/acknowledge", items.AcknowledgeAction),
    _route("attention/<int:item_id>/assign", items.AssignAction),
    _route("attention/<int:item_id>/snooze", items.SnoozeAction),
    _route("attention/<int:item_id>/comments", items.AttentionCommentsView),
    _route("pause", PauseEverythingView),
    _route("pause/resume", ResumeEverythingView),
    _route("devices", find.DeviceListView),
    _route("devices/export", find.DeviceExportView),
    _route("devices/grid", find.DeviceGridView),
    _route("saved-views", find.ViewListView),
    _route("saved-views/<int:view_id>", find.ViewView),
    _route("devices/add", lifecycle.DeviceAddAction),
    _route("devices/upcoming", lifecycle.DevicesUpcomingView),
    _route("devices/request-report", lifecycle.DevicesReportAction),
    _route("devices/<str:device>", fleet.DeviceView),
    _route("devices/<str:device>/removal", lifecycle.DeviceRemovalView),
    _route("devices/<str:device>/secret/issue", lifecycle.DeviceSecretIssueAction),
    _route("devices/<str:device>/secret/revoke", lifecycle.DeviceSecretRevokeAction),
    _route("devices/<str:device>/replace", lifecycle.DeviceReplaceAction),
    _route("devices/<str:device>/replace/preview", lifecycle.DeviceReplacePreview),
    _route("admissions", lifecycle.AdmissionQueueView),
    _route("admissions/attempts/<int:attempt_id>", lifecycle.AttemptView),
    _route("admissions/let-in-again", lifecycle.LetInAgainAction),
    _route("devices/<str:device>/request-report", fleet.DeviceReportAction),
    _route("devices/<str:device>/live", fleet.DeviceLiveView),
    _route("devices/<str:device>/orders", deliveries.DeviceOrdersView),
    _route("devices/<str:device>/timeline", deliveries.DeviceTimelineView),
    _route("fields", fleet.FieldListView),
    _route("fields/<str:key>/values", find.FieldValuesView),
    _route("rules/preview", groups.RulePreviewView),
    _route("rules/sieve", groups.RuleSieveView),
    _route("rules/explain", groups.RuleExplainView),
    _route("rules/compare", groups.RuleCompareView),
    _route("folders", groups.FolderListView),
    _route("folders/<int:folder_id>", groups.FolderView),
    _route("groups", groups.GroupListView),
    _route("groups/overlaps", groups.OverlapView),
    _route("groups/overview", GroupsOverviewView),
    _route("groups/<int:group_id>", groups.GroupView),
    _route("groups/<int:group_id>/convert-to-static", groups.GroupConvertToStaticAction),
    _route("groups/<int:group_id>/convert-to-rule", groups.GroupConvertToRuleAction),
    _route("groups/<int:group_id>/proposed-rule", groups.GroupProposedRuleView),
    _route("groups/<int:group_id>/history", groups.GroupHistoryView),
    _route("groups/<int:group_id>/membership-diff", groups.GroupMembershipDiffView),
    _route("groups/<int:group_id>/members", groups.GroupMembersView),
    _route("tags", tags_and_attributes.TagListView),
    _route("tags/<str:slug>", tags_and_attributes.TagView),
    _route("tags/<str:slug>/rename", tags_and_attributes.TagRenameAction),
    _route("tags/<str:slug>/rename/preview", tags_and_attributes.TagRenamePreview),
    _route("attributes", tags_and_attributes.AttributeListView),
    _route("attributes/<str:key>", tags_and_attributes.AttributeView),
    _route("attributes/<str:key>/incompatible-values", tags_and_attributes.AttributeIncompatibleValuesView),
    _route("facts", facts.FactListView),
    _route("facts/<str:key>", facts.FactItemView),
    _route("sites", reference_data.SiteListView),
    _route("sites/<int:pk>", reference_data.SiteView),
    _route("sites/<int:pk>/preview", reference_data.SitePreviewView),
    _route("models", reference_data.ModelListView),
    _route("models/<int:pk>", reference_data.ModelView),
    _route("models/<int:pk>/upgrades", paths.ModelUpgradesView),
    _route("models/<int:pk>/preview", reference_data.ModelPreviewView),
    _route("models/<int:pk>/capabilities", model_capabilities.ModelCapabilitiesView),
    _route("models/<int:pk>/capabilities/preview", capabilities.ModelCapabilitiesPreview),
    _route("capabilities", capabilities.CapabilityTableView),
    _route("custodians", reference_data.CustodianListView),
    _route("custodians/<int:pk>", reference_data.CustodianView),
    _route("custodians/<int:pk>/preview", reference_data.CustodianPreviewView),
    _route("enrolment-codes", codes.CodeListView),
    _route("enrolment-codes/<int:code_id>", codes.CodeView),
    _route("edits", edits.EditListView),
    _route("edits/preview", edits.EditPreviewView),
    _route("edits/<int:edit_id>", edits.EditView),
    _route("edits/<int:edit_id>/undo", edits.EditUndoAction),
    _route("imports", imports.ImportListView),
    _route("imports/<int:import_id>", imports.ImportView),
    _route("repeated-imports", repeated_imports.RepeatedImportListView),
    _route("repeated-imports/<int:repeated_id>", repeated_imports.RepeatedImportView),
    _route("repeated-imports/<int:repeated_id>/read", repeated_imports.RepeatedImportReadAction),
    _route("import-mappings", imports.SavedMappingListView),
    _route("import-mappings/<int:mapping_id>", imports.SavedMappingView),
    _route("imports/<int:import_id>/save-mapping", imports.ImportSaveMappingAction),
    _route("imports/<int:import_id>/accept", imports.ImportAcceptAction),
    _route("imports/<int:import_id>/cancel", imports.ImportCancelAction),
    _route("imports/<int:import_id>/undo", imports.ImportUndoView),
    _route("imports/<int:import_id>/errors", imports.ImportErrorsView),
    _route("images", images.ImageListView),
    _route("image-cleanups", upkeep.ImageCleanupListView),
    _route("image-cleanups/preview", upkeep.ImageCleanupPreview),
    _route("image-cleanups/<int:cleanup_id>/undo", upkeep.ImageCleanupUndoAction),
    _route("approval-policies", upkeep.ApprovalPolicyListView),
    _route("models/<int:pk>/approval-policy", upkeep.ApprovalPolicyView),
    _route("signing-keys", upkeep.KeyListView),
    _route("signing-keys/<str:kid>", upkeep.KeyView),
    _route("images/<int:image_id>/approve", images.ImageApproveAction),
    _route("images/<int:image_id>/withdraw", images.ImageWithdrawAction),
    _route("images/<int:image_id>/withdraw/preview", images.ImageWithdrawPreview),
    _route("uploads", images.UploadListView),
    _route("uploads/<uuid:upload_id>", images.UploadView),
    _route("rollouts", rollouts.RolloutListView),
    _route("rollouts/sentence", rollouts.SentenceAction),
    _route("rollouts/usual-hours", rollouts.UsualHoursAction),
    _route("rollouts/<int:rollout_id>", rollouts.RolloutView),
    _route("rollouts/<int:rollout_id>/preflight", rollouts.PreflightAction),
    _route("rollouts/<int:rollout_id>/conflicts", rollouts.ConflictsView),
    _route("rollouts/<int:rollout_id>/preflight/devices", rollouts.PreflightDevicesView),
    _route("rollouts/<int:rollout_id>/launch", rollouts.LaunchAction),
    _route("rollouts/<int:rollout_id>/pause", actions.PauseAction),
    _route("rollouts/<int:rollout_id>/resume", actions.ResumeAction),
    _route("rollouts/<int:rollout_id>/stop", actions.StopAction),
    _route("rollouts/<int:rollout_id>/open-gate", actions.OpenGateAction),
    _route("rollouts/order", actions.RankAction),
    _route("rollouts/<int:rollout_id>/approve-gate", actions.ApproveGateAction),
    _route("rollouts/<int:rollout_id>/approve-override", actions.ApproveOverrideAction),
    _route("rollouts/<int:rollout_id>/roll-back", actions.RollBackAction),
    _route("rollouts/<int:rollout_id>/extend", actions.ExtendAction),
    _route("rollouts/<int:rollout_id>/extend/preview", actions.ExtendPreviewView),
    _route("rollouts/<int:rollout_id>/expedite", actions.ExpediteAction),
    _route("rollouts/<int:rollout_id>/retry", actions.RetryAction),
    _route("rollouts/<int:rollout_id>/skip", actions.SkipAction),
    _route("rollouts/<int:rollout_id>/changes", actions.EditOpenAction),
    _route("rollouts/<int:rollout_id>/changes/preview", actions.EditOpenPreview),
    _route("rollouts/<int:rollout_id>/rings-ahead", actions.RingsAheadView),
    _route("rollouts/<int:rollout_id>/rings-ahead/preview", actions.RingsAheadPreview),
    _route("rollouts/<int:rollout_id>/words", actions.WordsView),
    _route("rollouts/<int:rollout_id>/exclusions", rollouts.ExcludeAction),
    _route("rollouts/<int:rollout_id>/exclusions/remove", rollouts.IncludeAction),
    _route("rollouts/<int:rollout_id>/common-causes", holding.CommonCausesView),
    _route("rollouts/<int:rollout_id>/hold", holding.HoldAction),
    _route("rollouts/<int:rollout_id>/hold/preview", holding.HoldPreviewView),
    _route("rollouts/<int:rollout_id>/release", holding.ReleaseAction),
    _route("rollouts/<int:rollout_id>/deliveries", watch.RolloutDeliveriesView),
    _route("rollouts/<int:rollout_id>/comments", RolloutCommentsView),
    _route("rollouts/<int:rollout_id>/late-joiners", watch.RolloutLateJoinersView),
    _route("rollouts/<int:rollout_id>/ring-devices", watch.RolloutRingDevicesView),
    _route("rollouts/<int:rollout_id>/progress", watch.RolloutProgressView),
    _route("rollouts/<int:rollout_id>/forecast", forecasts.RolloutForecastView),
    _route("rollouts/<int:rollout_id>/suggest-hours", proposals.SuggestHoursView),
    _route("rollouts/<int:rollout_id>/breakdown", reports.RolloutBreakdownView),
    _route("rollouts/<int:rollout_id>/freezes", reports.RolloutFreezesView),
    _route("rollouts/<int:rollout_id>/report", reports.RolloutReportView),
    _route("rollouts/<int:rollout_id>/report/table", reports.RolloutReportTableView),
    _route("rollouts/<int:rollout_id>/timeline", watch.RolloutTimelineView),
    _route("calendar", CalendarView),
    _route("devices/<str:device>/coming", coming.DeviceComingView),
    _route("sites/<int:site_id>/coming", coming.SiteComingView),
    _route("sites/<int:site_id>/uplink", coming.SiteUplinkView),
    _route("groups/<int:group_id>/coming", coming.GroupComingView),
    _route("calendar-feeds", feeds.FeedListView),
    _route("calendar-feeds/<int:feed_id>", feeds.FeedView),
    _route("feeds/<str:secret>.ics", feeds.FeedFileView),
    _route("calendar/conflicts", moves.CalendarConflictsView),
    _route("calendar/moves", moves.MoveAction),
    _route("calendar/moves/preview", moves.MovePreviewView),
    _route("ring-plans", plans.PlanListView),
    _route("ring-plans/<int:plan_id>", plans.PlanView),
    _route("freezes", calendar.FreezeListView),
    _route("freezes/export", calendar_sources.FreezeExportView),
    _route("freezes/<int:freeze_id>", calendar.FreezeView),
    _route("calendar-sources", calendar_sources.SourceListView),
    _route("calendar-sources/preview", calendar_sources.SourcePreviewView),
    _route("calendar-sources/<int:source_id>", calendar_sources.SourceView),
    _route("calendar-sources/<int:source_id>/preview", calendar_sources.SourceChangePreviewView),
    _route("calendar-sources/<int:source_id>/read", calendar_sources.SourceReadAction),
    _route("followed-lists", lists.FollowedListsView),
    _route("groups/<int:group_id>/list", lists.GroupListView),
    _route("groups/<int:group_id>/list/preview", lists.GroupListPreviewView),
    _route("groups/<int:group_id>/list/read", lists.GroupListReadAction),
    _route("command-templates", command_templates.TemplateListView),
    _route("command-templates/<slug:key>", command_templates.TemplateView),
    _route("schedules", commands.ScheduleListView),
    _route("schedules/preview", commands.SchedulePreviewView),
    _route("schedules/sentence", commands.ScheduleSentenceAction),
    _route("schedules/<int:schedule_id>", commands.ScheduleView),
    _route("schedules/<int:schedule_id>/comments", ScheduleCommentsView),
    _route("schedules/<int:schedule_id>/answers", command_watch.ScheduleAnswersView),
    _route("schedules/<int:schedule_id>/answers/group", command_watch.ScheduleAnswersGroupAction),
    _route("schedules/<int:schedule_id>/record", command_watch.ScheduleRecordView),
    _route("deliveries/<int:delivery_id>/output", command_watch.DeliveryOutputView),
    _route("deliveries/<int:delivery_id>/output/file", command_watch.DeliveryOutputFileView),
    _route("deliveries/<int:delivery_id>/output/compare", command_watch.DeliveryOutputCompareView),
    _route("schedules/<int:schedule_id>/preview", commands.ScheduleChangePreviewView),
    _route("schedules/<int:schedule_id>/approve", commands.ScheduleApproveAction),
    _route("schedules/<int:schedule_id>/skip", commands.ScheduleSkipAction),
    _route("schedules/<int:schedule_id>/pause", commands.SchedulePauseAction),
    _route("schedules/<int:schedule_id>/resume", commands.ScheduleResumeAction),
    _route("schedules/<int:schedule_id>/end", commands.ScheduleEndAction),
    _route("schedules/<int:schedule_id>/run", commands.ScheduleRunAction),
    _route("schedules/<int:schedule_id>/deliveries", commands.ScheduleDeliveriesView),
    _route("record", RecordListView),
    _route("record/choices", RecordChoicesView),
    _route("record/export", RecordExportView),
    _route("outages", OutageListView),
    _route("outages/<int:outage_id>", OutageView),
    _route("retention", RetentionListView),
    _route("retention/<str:key>", RetentionView),
    _route("retention/<str:key>/preview", RetentionPreview),
    _route("configuration", configuration.ConfigurationExportView),
    _route("configuration/schema", configuration.ConfigurationSchemaView),
    _route("configuration/compare", configuration.ConfigurationCompareView),
    _route("configuration/apply", configuration.ConfigurationApplyView),
    _route("configuration/origin", configuration.ConfigurationOriginView),
    path("metrics", MetricsView.as_view()),
    path("api/v1/schema", SchemaView.as_view(), name="schema"),
    path("api/v1/docs", DocsView.as_view(url_name="schema"), name="docs"),
    re_path(r"^api/", api_not_found),
    re_path(r"^(?!static/|assets/).*$", front_end),
]
