/** Every address of the interface. A page's code is loaded when its address is first opened. */
import { createRootRoute, createRoute, createRouter, lazyRouteComponent } from "@tanstack/react-router";
import type { DeliveryFilter, Place, RecordFilter, ScheduleState, Stage } from "@/api/queries";
import type { RowKind, Span } from "@/rooms/calendar/model";
import type { FleetAddress } from "@/rooms/fleet/address";
import type { NotificationPart } from "@/rooms/notifications/notifications";
import type { AttentionState } from "@/rooms/now/queries";
import { NotFound, PageFailed } from "./failures";
import { Shell } from "./shell";

const text = (value: unknown) => (typeof value === "string" && value !== "" ? value : undefined);
/** A word that may be empty; numbers are what a typed address makes of versions like 5.1. */
const word = (value: unknown) =>
  typeof value === "string" ? value : typeof value === "number" ? String(value) : undefined;
const whole = (value: unknown) => (Number.isInteger(Number(value)) && value ? Number(value) : undefined);

const among = <T extends string>(value: unknown, known: readonly T[]) => known.find((k) => k === value);

const root = createRootRoute({ component: Shell, notFoundComponent: NotFound, errorComponent: PageFailed });
const under = { getParentRoute: () => root };
const page = <P extends string>(path: P, component: ReturnType<typeof lazyRouteComponent>) =>
  createRoute({ ...under, path, component });

const fleetRoute = createRoute({
  ...under,
  path: "/fleet",
  component: lazyRouteComponent(() => import("@/rooms/fleet/fleet"), "Fleet"),
  validateSearch: (search): FleetAddress => ({
    rule: text(search.rule),
    q: text(search.q),
    order: text(search.order),
    columns: text(search.columns),
    grid: text(search.grid),
  }),
});
const groupsRoute = createRoute({
  ...under,
  path: "/groups",
  component: lazyRouteComponent(() => import("@/rooms/groups/groups"), "Groups"),
});
const groupRoute = createRoute({
  getParentRoute: () => groupsRoute,
  path: "$id",
  component: lazyRouteComponent(() => import("@/rooms/groups/group"), "GroupPage"),
  validateSearch: (search): { rule?: string; folder?: number } => ({
    rule: text(search.rule),
    folder: whole(search.folder),
  }),
});
const daysRoute = createRoute({
  getParentRoute: () => groupsRoute,
  path: "$id/days",
  component: lazyRouteComponent(() => import("@/rooms/groups/compare-moments"), "CompareMoments"),
  validateSearch: (search): { from?: string; until?: string } => ({
    from: text(search.from),
    until: text(search.until),
  }),
});
const rolloutsRoute = createRoute({
  ...under,
  path: "/rollouts",
  component: lazyRouteComponent(() => import("@/rooms/rollouts/list"), "Rollouts"),
  validateSearch: (search): { q?: string; stage?: Stage } => ({
    q: word(search.q),
    stage: among(search.stage, ["draft", "open", "ended"]),
  }),
});
const commandsRoute = createRoute({
  ...under,
  path: "/commands",
  component: lazyRouteComponent(() => import("@/rooms/commands/list"), "Commands"),
  validateSearch: (search): { q?: string; state?: ScheduleState } => ({
    q: word(search.q),
    state: among(search.state, ["proposed", "active", "paused", "ended"]),
  }),
});
const recordRoute = createRoute({
  ...under,
  path: "/record",
  component: lazyRouteComponent(() => import("@/rooms/record/record"), "RecordRoom"),
  validateSearch: (search): RecordFilter => ({
    person: word(search.person),
    kind: text(search.kind) as RecordFilter["kind"],
    object: whole(search.object),
    q: word(search.q),
    since: text(search.since),
    until: text(search.until),
  }),
});
const rolloutRoute = createRoute({
  ...under,
  path: "/rollouts/$id",
  component: lazyRouteComponent(() => import("@/rooms/rollouts/rollout"), "RolloutPage"),
  validateSearch: (search): DeliveryFilter & { by?: Place } => ({
    ring: whole(search.ring),
    phase: text(search.phase),
    q: text(search.q),
    site: word(search.site),
    model: word(search.model),
    hardware: word(search.hardware),
    from_version: word(search.from_version),
    error: word(search.error),
    by: text(search.by) as Place | undefined,
  }),
});
/** A new rollout may start from a group, devices that are handed over, an image, the rings of a plan's version, or an
 * earlier rollout. Once the server keeps it, `draft` says as which. */
const newRolloutRoute = createRoute({
  ...under,
  path: "/rollouts/new",
  component: lazyRouteComponent(() => import("@/rooms/rollouts/compose"), "NewRollout"),
  validateSearch: (
    search,
  ): { group?: number; devices?: string; image?: number; plan?: number; like?: number; draft?: number } => ({
    group: whole(search.group),
    devices: word(search.devices),
    image: whole(search.image),
    plan: whole(search.plan),
    like: whole(search.like),
    draft: whole(search.draft),
  }),
});
const compareRoute = createRoute({
  ...under,
  path: "/rollouts/compare",
  component: lazyRouteComponent(() => import("@/rooms/rollouts/compare"), "Compare"),
  validateSearch: (search): { a?: number; b?: number } => ({ a: whole(search.a), b: whole(search.b) }),
});
/** A new command may start from a group, a template, or devices that are handed over. */
const newCommandRoute = createRoute({
  ...under,
  path: "/commands/new",
  component: lazyRouteComponent(() => import("@/rooms/commands/compose"), "NewCommand"),
  validateSearch: (search): { devices?: string; group?: number; template?: string } => ({
    devices: word(search.devices),
    group: whole(search.group),
    template: word(search.template),
  }),
});
const commandRoute = createRoute({
  ...under,
  path: "/commands/$id",
  component: lazyRouteComponent(() => import("@/rooms/commands/watch"), "CommandPage"),
  validateSearch: (search): { phase?: string; firing?: string; answer?: string } => ({
    phase: text(search.phase),
    firing: word(search.firing),
    answer: word(search.answer),
  }),
});
const editCommandRoute = createRoute({
  ...under,
  path: "/commands/$id/edit",
  component: lazyRouteComponent(() => import("@/rooms/commands/compose"), "EditCommand"),
});
const calendarRoute = createRoute({
  ...under,
  path: "/calendar",
  component: lazyRouteComponent(() => import("@/rooms/calendar/calendar"), "Calendar"),
  validateSearch: (search): { from?: string; span?: Span; rows?: RowKind } => ({
    from: text(search.from),
    span: among(search.span, ["day", "week", "six-weeks", "season"]),
    rows: among(search.rows, ["zone", "site", "group"]),
  }),
});
const overlapsRoute = createRoute({
  ...under,
  path: "/overlaps",
  component: lazyRouteComponent(() => import("@/rooms/groups/overlaps"), "Overlaps"),
  validateSearch: (search): { groups?: string } => ({ groups: text(search.groups) }),
});
const attentionRoute = createRoute({
  ...under,
  path: "/attention",
  component: lazyRouteComponent(() => import("@/rooms/now/attention"), "AttentionPage"),
  validateSearch: (search): { state?: AttentionState; mine?: true } => ({
    state: among(search.state, ["open", "snoozed", "closed"]),
    mine: search.mine === true || search.mine === "true" ? true : undefined,
  }),
});
const notificationsRoute = createRoute({
  ...under,
  path: "/notifications",
  component: lazyRouteComponent(() => import("@/rooms/notifications/notifications"), "Notifications"),
  validateSearch: (search): { part?: NotificationPart } => ({ part: among(search.part, ["own", "rules", "sent"]) }),
});
const overTimeRoute = createRoute({
  ...under,
  path: "/fleet-over-time",
  component: lazyRouteComponent(() => import("@/rooms/now/fleet-over-time"), "FleetOverTime"),
  validateSearch: (search): { days?: number } => ({ days: whole(search.days) }),
});
const libraryRoute = createRoute({
  ...under,
  path: "/library",
  component: lazyRouteComponent(() => import("@/rooms/library/library"), "Library"),
  validateSearch: (search): { shelf?: string } => ({ shelf: text(search.shelf) }),
});

const nowRoute = createRoute({
  ...under,
  path: "/",
  component: lazyRouteComponent(() => import("@/rooms/now/now"), "Now"),
  // for a screen on a wall: larger, and nothing to press
  validateSearch: (search): { wall?: true } => ("wall" in search ? { wall: true } : {}),
});

const tree = root.addChildren([
  nowRoute,
  page(
    "/quarantine",
    lazyRouteComponent(() => import("@/rooms/now/quarantine"), "QuarantinePage"),
  ),
  attentionRoute,
  fleetRoute,
  page(
    "/import/$id",
    lazyRouteComponent(() => import("@/rooms/fleet/import"), "ImportPage"),
  ),
  page(
    "/devices/$name",
    lazyRouteComponent(() => import("@/rooms/fleet/device"), "DevicePage"),
  ),
  page(
    "/sites/$id",
    lazyRouteComponent(() => import("@/rooms/fleet/site"), "SitePage"),
  ),
  page(
    "/admissions",
    lazyRouteComponent(() => import("@/rooms/fleet/admissions"), "Admissions"),
  ),
  groupsRoute.addChildren([groupRoute, daysRoute]),
  rolloutsRoute,
  newRolloutRoute,
  compareRoute,
  rolloutRoute,
  page(
    "/rollouts/$id/report",
    lazyRouteComponent(() => import("@/rooms/rollouts/report"), "ReportPage"),
  ),
  commandsRoute,
  newCommandRoute,
  commandRoute,
  editCommandRoute,
  calendarRoute,
  overlapsRoute,
  libraryRoute,
  recordRoute,
  notificationsRoute,
  overTimeRoute,
  page(
    "/mail",
    lazyRouteComponent(() => import("@/rooms/notifications/demo-mail"), "DemoMail"),
  ),
  page(
    "/record/firmware",
    lazyRouteComponent(() => import("@/rooms/record/firmware"), "FirmwarePage"),
  ),
  page(
    "/record/mails",
    lazyRouteComponent(() => import("@/rooms/record/mails"), "MailsPage"),
  ),
  page(
    "/record/kept",
    lazyRouteComponent(() => import("@/rooms/record/kept"), "Kept"),
  ),
  page(
    "/people",
    lazyRouteComponent(() => import("@/rooms/people/people"), "People"),
  ),
  page(
    "/account",
    lazyRouteComponent(() => import("@/rooms/people/account"), "Account"),
  ),
  page(
    "/welcome/$secret",
    lazyRouteComponent(() => import("@/rooms/people/welcome"), "Welcome"),
  ),
]);

export const router = createRouter({ routeTree: tree, defaultPreload: "intent", defaultErrorComponent: PageFailed });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
