"""Every address of the web server."""

from pathlib import Path

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.urls import path, re_path
from django.views import View
from django.views.decorators.csrf import csrf_exempt, ensure_csrf_cookie
from drf_spectacular.views import SpectacularJSONAPIView, SpectacularSwaggerView

from herald.access.api.views import HealthView, SessionView, TokenListView, TokenView
from herald.api.errors import problem_response
from herald.attention.api.views import QuarantineListView, QuarantineTryAction
from herald.calendar.api import views as calendar
from herald.commands.api import functions as model_functions
from herald.commands.api import views as commands
from herald.deliveries.api import views as deliveries
from herald.edits.api import codes, describing, facts, ground
from herald.edits.api import views as edits
from herald.find.api import views as find
from herald.fleet.api import functions
from herald.fleet.api import views as fleet
from herald.groups.api import views as groups
from herald.images.api import paths, upkeep
from herald.images.api import views as images
from herald.imports.api import views as imports
from herald.lifecycle.api import views as lifecycle
from herald.now.views import NowApiView, ReadyView
from herald.record.api.views import RecordListView
from herald.rollouts.api import acts, forecasts, holding, plans, reports, watching
from herald.rollouts.api import views as rollouts


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
def no_such_call(request: HttpRequest) -> HttpResponseBase:
    detail = f"There is no call {request.path}; /api/v1/schema lists them all."
    return problem_response(404, "not-found", "Not found", detail)


def _call(route: str, view: "type[View]") -> object:
    return path(f"api/v1/{route}", view.as_view())


handler500 = "herald.api.problems.server_error"
urlpatterns = [
    _call("health", HealthView),
    _call("ready", ReadyView),
    _call("quarantine", QuarantineListView),
    _call("quarantine/<int:quarantine_id>/try", QuarantineTryAction),
    _call("session", SessionView),
    _call("tokens", TokenListView),
    _call("tokens/<str:token_id>", TokenView),
    _call("now", NowApiView),
    _call("devices", find.DeviceListView),
    _call("devices/export", find.DeviceExportView),
    _call("devices/grid", find.DeviceGridView),
    _call("views", find.ViewListView),
    _call("views/<int:view_id>", find.ViewView),
    _call("devices/add", lifecycle.DeviceAddAction),
    _call("devices/upcoming", lifecycle.DevicesUpcomingView),
    _call("devices/ask-to-report", lifecycle.DevicesReportAction),
    _call("devices/<str:device>", fleet.DeviceView),
    _call("devices/<str:device>/removal", lifecycle.DeviceRemovalView),
    _call("devices/<str:device>/secret/issue", lifecycle.DeviceSecretIssueAction),
    _call("devices/<str:device>/secret/revoke", lifecycle.DeviceSecretRevokeAction),
    _call("devices/<str:device>/replace", lifecycle.DeviceReplaceAction),
    _call("devices/<str:device>/replace/preview", lifecycle.DeviceReplacePreview),
    _call("admissions", lifecycle.AdmissionQueueView),
    _call("admissions/attempts/<int:attempt_id>", lifecycle.AttemptView),
    _call("admissions/let-in-again", lifecycle.LetInAgainAction),
    _call("devices/<str:device>/ask-to-report", fleet.DeviceReportAction),
    _call("devices/<str:device>/orders", deliveries.DeviceOrdersView),
    _call("devices/<str:device>/timeline", deliveries.DeviceTimelineView),
    _call("fields", fleet.FieldListView),
    _call("fields/<str:key>/values", find.FieldValuesView),
    _call("rules/preview", groups.RulePreviewView),
    _call("rules/sieve", groups.RuleSieveView),
    _call("rules/explain", groups.RuleExplainView),
    _call("rules/compare", groups.RuleCompareView),
    _call("folders", groups.FolderListView),
    _call("folders/<int:folder_id>", groups.FolderView),
    _call("groups", groups.GroupListView),
    _call("groups/overlaps", groups.OverlapView),
    _call("groups/<int:group_id>", groups.GroupView),
    _call("groups/<int:group_id>/make-static", groups.GroupStaticAction),
    _call("groups/<int:group_id>/make-by-rule", groups.GroupRuleAction),
    _call("groups/<int:group_id>/proposed-rule", groups.GroupProposedRuleView),
    _call("groups/<int:group_id>/history", groups.GroupHistoryView),
    _call("groups/<int:group_id>/two-moments", groups.GroupTwoMomentsView),
    _call("groups/<int:group_id>/members", groups.GroupMembersView),
    _call("tags", describing.TagListView),
    _call("tags/<str:slug>", describing.TagView),
    _call("tags/<str:slug>/rename", describing.TagRenameAction),
    _call("tags/<str:slug>/rename/preview", describing.TagRenamePreview),
    _call("attributes", describing.AttributeListView),
    _call("attributes/<str:key>", describing.AttributeView),
    _call("attributes/<str:key>/misfits", describing.AttributeMisfitsView),
    _call("facts", facts.FactListView),
    _call("facts/<str:key>", facts.FactItemView),
    _call("sites", ground.SiteListView),
    _call("sites/<int:pk>", ground.SiteView),
    _call("sites/<int:pk>/preview", ground.SitePreviewView),
    _call("models", ground.ModelListView),
    _call("models/<int:pk>", ground.ModelView),
    _call("models/<int:pk>/upgrades", paths.ModelUpgradesView),
    _call("models/<int:pk>/preview", ground.ModelPreviewView),
    _call("models/<int:pk>/functions", model_functions.ModelFunctionsView),
    _call("models/<int:pk>/functions/preview", functions.ModelFunctionsPreview),
    _call("functions", functions.FunctionTableView),
    _call("custodians", ground.CustodianListView),
    _call("custodians/<int:pk>", ground.CustodianView),
    _call("custodians/<int:pk>/preview", ground.CustodianPreviewView),
    _call("enrolment-codes", codes.CodeListView),
    _call("enrolment-codes/<int:code_id>", codes.CodeView),
    _call("edits", edits.EditListView),
    _call("edits/preview", edits.EditPreviewView),
    _call("edits/<int:edit_id>", edits.EditView),
    _call("edits/<int:edit_id>/undo", edits.EditUndoAction),
    _call("imports", imports.ImportListView),
    _call("imports/<int:import_id>", imports.ImportView),
    _call("import-mappings", imports.KeptMappingListView),
    _call("import-mappings/<int:mapping_id>", imports.KeptMappingView),
    _call("imports/<int:import_id>/keep-mapping", imports.ImportKeepMappingAction),
    _call("imports/<int:import_id>/accept", imports.ImportAcceptAction),
    _call("imports/<int:import_id>/cancel", imports.ImportCancelAction),
    _call("imports/<int:import_id>/undo", imports.ImportUndoView),
    _call("imports/<int:import_id>/wrong", imports.ImportWrongView),
    _call("images", images.ImageListView),
    _call("cleanings", upkeep.CleaningListView),
    _call("cleanings/rehearsal", upkeep.CleaningRehearsalView),
    _call("cleanings/<int:cleaning_id>/undo", upkeep.CleaningUndoAction),
    _call("releases", upkeep.ReleaseListView),
    _call("models/<int:pk>/release", upkeep.ReleaseView),
    _call("signing-keys", upkeep.KeyListView),
    _call("signing-keys/<str:kid>", upkeep.KeyView),
    _call("images/<int:image_id>/approve", images.ImageApproveAction),
    _call("images/<int:image_id>/withdraw", images.ImageWithdrawAction),
    _call("images/<int:image_id>/withdraw/preview", images.ImageWithdrawPreview),
    _call("uploads", images.UploadListView),
    _call("uploads/<uuid:upload_id>", images.UploadView),
    _call("rollouts", rollouts.RolloutListView),
    _call("rollouts/<int:rollout_id>", rollouts.RolloutView),
    _call("rollouts/<int:rollout_id>/preflight", rollouts.PreflightAction),
    _call("rollouts/<int:rollout_id>/clashes", rollouts.ClashesView),
    _call("rollouts/<int:rollout_id>/preflight/devices", rollouts.PreflightDevicesView),
    _call("rollouts/<int:rollout_id>/launch", rollouts.LaunchAction),
    _call("rollouts/<int:rollout_id>/pause", acts.PauseAction),
    _call("rollouts/<int:rollout_id>/resume", acts.ResumeAction),
    _call("rollouts/<int:rollout_id>/stop", acts.StopAction),
    _call("rollouts/<int:rollout_id>/open-gate", acts.OpenGateAction),
    _call("rollouts/rank", acts.RankAction),
    _call("rollouts/<int:rollout_id>/approve-gate", acts.ApproveGateAction),
    _call("rollouts/<int:rollout_id>/approve-override", acts.ApproveOverrideAction),
    _call("rollouts/<int:rollout_id>/put-back", acts.PutBackAction),
    _call("rollouts/<int:rollout_id>/extend", acts.ExtendAction),
    _call("rollouts/<int:rollout_id>/extend/preview", acts.ExtendPreviewView),
    _call("rollouts/<int:rollout_id>/push", acts.PushAction),
    _call("rollouts/<int:rollout_id>/retry", acts.RetryAction),
    _call("rollouts/<int:rollout_id>/skip", acts.SkipAction),
    _call("rollouts/<int:rollout_id>/ahead", acts.AheadAction),
    _call("rollouts/<int:rollout_id>/ahead/preview", acts.AheadPreviewView),
    _call("rollouts/<int:rollout_id>/take-out", rollouts.TakeOutAction),
    _call("rollouts/<int:rollout_id>/take-back-in", rollouts.TakeBackInAction),
    _call("rollouts/<int:rollout_id>/shared-by-failed", holding.SharedByFailedView),
    _call("rollouts/<int:rollout_id>/hold", holding.HoldAction),
    _call("rollouts/<int:rollout_id>/hold/preview", holding.HoldPreviewView),
    _call("rollouts/<int:rollout_id>/release", holding.ReleaseAction),
    _call("rollouts/<int:rollout_id>/deliveries", watching.RolloutDeliveriesView),
    _call("rollouts/<int:rollout_id>/late-joiners", watching.RolloutLateJoinersView),
    _call("rollouts/<int:rollout_id>/marks", watching.RolloutMarksView),
    _call("rollouts/<int:rollout_id>/progress", watching.RolloutProgressView),
    _call("rollouts/<int:rollout_id>/forecast", forecasts.RolloutForecastView),
    _call("rollouts/<int:rollout_id>/breakdown", reports.RolloutBreakdownView),
    _call("rollouts/<int:rollout_id>/freezes", reports.RolloutFreezesView),
    _call("rollouts/<int:rollout_id>/report", reports.RolloutReportView),
    _call("rollouts/<int:rollout_id>/report/table", reports.RolloutReportTableView),
    _call("rollouts/<int:rollout_id>/timeline", watching.RolloutTimelineView),
    _call("plans", plans.PlanListView),
    _call("plans/<int:plan_id>", plans.PlanView),
    _call("freezes", calendar.FreezeListView),
    _call("freezes/<int:freeze_id>", calendar.FreezeView),
    _call("schedules", commands.ScheduleListView),
    _call("schedules/preview", commands.SchedulePreviewView),
    _call("schedules/<int:schedule_id>", commands.ScheduleView),
    _call("schedules/<int:schedule_id>/pause", commands.SchedulePauseAction),
    _call("schedules/<int:schedule_id>/resume", commands.ScheduleResumeAction),
    _call("schedules/<int:schedule_id>/end", commands.ScheduleEndAction),
    _call("schedules/<int:schedule_id>/run", commands.ScheduleRunAction),
    _call("schedules/<int:schedule_id>/deliveries", commands.ScheduleDeliveriesView),
    _call("record", RecordListView),
    path("api/v1/schema", SpectacularJSONAPIView.as_view(), name="schema"),
    path("api/v1/docs", SpectacularSwaggerView.as_view(url_name="schema"), name="docs"),
    re_path(r"^api/", no_such_call),
    re_path(r"^(?!static/|assets/).*$", front_end),
]
