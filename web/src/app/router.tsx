/** Every address of the interface. */
import { createRootRoute, createRoute, createRouter } from "@tanstack/react-router";
import type { DeliveryFilter, Place } from "@/api/queries";
import { NewCommand } from "@/rooms/commands/compose";
import { Commands } from "@/rooms/commands/list";
import { CommandPage } from "@/rooms/commands/watch";
import { Admissions } from "@/rooms/fleet/admissions";
import { DevicePage } from "@/rooms/fleet/device";
import { Fleet } from "@/rooms/fleet/fleet";
import { ImportPage } from "@/rooms/fleet/import";
import { GroupDays } from "@/rooms/groups/days";
import { GroupPage } from "@/rooms/groups/group";
import { Groups } from "@/rooms/groups/groups";
import { Overlaps } from "@/rooms/groups/overlaps";
import { Library } from "@/rooms/library/library";
import { Now } from "@/rooms/now/now";
import { QuarantinePage } from "@/rooms/now/quarantine";
import { RecordRoom } from "@/rooms/record/record";
import { Compare } from "@/rooms/rollouts/compare";
import { NewRollout } from "@/rooms/rollouts/compose";
import { Rollouts } from "@/rooms/rollouts/list";
import { ReportPage } from "@/rooms/rollouts/report";
import { RolloutPage } from "@/rooms/rollouts/rollout";
import { Shell } from "./shell";

const text = (value: unknown) => (typeof value === "string" && value !== "" ? value : undefined);
/** A word that may be empty; numbers are what a typed address makes of versions like 5.1. */
const word = (value: unknown) =>
  typeof value === "string" ? value : typeof value === "number" ? String(value) : undefined;
const whole = (value: unknown) => (Number.isInteger(Number(value)) && value ? Number(value) : undefined);

/** What the fleet view keeps in its address: fields of `columns` and of `grid` are between commas. */
export interface FleetAddress {
  rule?: string;
  words?: string;
  order?: string;
  columns?: string;
  grid?: string;
}

const root = createRootRoute({ component: Shell });
const route = <P extends string>(path: P, component: () => React.ReactNode) =>
  createRoute({ getParentRoute: () => root, path, component });

export const fleetRoute = createRoute({
  getParentRoute: () => root,
  path: "/fleet",
  component: Fleet,
  validateSearch: (search): FleetAddress => ({
    rule: text(search.rule),
    words: text(search.words),
    order: text(search.order),
    columns: text(search.columns),
    grid: text(search.grid),
  }),
});
export const importRoute = route("/import/$id", ImportPage);
export const deviceRoute = route("/devices/$name", DevicePage);
const groupsRoute = createRoute({ getParentRoute: () => root, path: "/groups", component: Groups });
export const groupRoute = createRoute({
  getParentRoute: () => groupsRoute,
  path: "$id",
  component: GroupPage,
  validateSearch: (search): { rule?: string; folder?: number } => ({
    rule: text(search.rule),
    folder: whole(search.folder),
  }),
});
export const daysRoute = createRoute({
  getParentRoute: () => groupsRoute,
  path: "$id/days",
  component: GroupDays,
  validateSearch: (search): { from?: string; until?: string } => ({
    from: text(search.from),
    until: text(search.until),
  }),
});
export const rolloutRoute = createRoute({
  getParentRoute: () => root,
  path: "/rollouts/$id",
  component: RolloutPage,
  validateSearch: (search): DeliveryFilter & { by?: Place } => ({
    ring: whole(search.ring),
    phase: text(search.phase),
    words: text(search.words),
    site: word(search.site),
    model: word(search.model),
    hardware: word(search.hardware),
    from_version: word(search.from_version),
    error: word(search.error),
    by: text(search.by) as Place | undefined,
  }),
});
/** A new rollout may start from a group, devices that are handed over, an image, the rings of a plan's version, or an earlier rollout. Once the server
 * keeps it, `draft` says as which. */
export const newRolloutRoute = createRoute({
  getParentRoute: () => root,
  path: "/rollouts/new",
  component: NewRollout,
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
export const reportRoute = createRoute({
  getParentRoute: () => root,
  path: "/rollouts/$id/report",
  component: ReportPage,
});
export const compareRoute = createRoute({
  getParentRoute: () => root,
  path: "/rollouts/compare",
  component: Compare,
  validateSearch: (search): { a?: number; b?: number } => ({ a: whole(search.a), b: whole(search.b) }),
});
/** A new command may start from devices that are handed over. */
export const newCommandRoute = createRoute({
  getParentRoute: () => root,
  path: "/commands/new",
  component: NewCommand,
  validateSearch: (search): { devices?: string } => ({ devices: word(search.devices) }),
});
export const commandRoute = createRoute({
  getParentRoute: () => root,
  path: "/commands/$id",
  component: CommandPage,
  validateSearch: (search): { phase?: string } => ({ phase: text(search.phase) }),
});

export const overlapsRoute = createRoute({
  getParentRoute: () => root,
  path: "/overlaps",
  component: Overlaps,
  validateSearch: (search): { groups?: string } => ({ groups: text(search.groups) }),
});
export const libraryRoute = createRoute({
  getParentRoute: () => root,
  path: "/library",
  component: Library,
  validateSearch: (search): { shelf?: string } => ({ shelf: text(search.shelf) }),
});

const tree = root.addChildren([
  route("/", Now),
  route("/quarantine", QuarantinePage),
  fleetRoute,
  importRoute,
  deviceRoute,
  groupsRoute.addChildren([groupRoute, daysRoute]),
  route("/rollouts", Rollouts),
  newRolloutRoute,
  compareRoute,
  rolloutRoute,
  reportRoute,
  route("/commands", Commands),
  newCommandRoute,
  route("/admissions", Admissions),
  commandRoute,
  overlapsRoute,
  libraryRoute,
  route("/record", RecordRoom),
]);

export const router = createRouter({ routeTree: tree, defaultPreload: false });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
