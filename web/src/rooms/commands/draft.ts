/** A command as it is composed: its draft, where it may begin, and what keeps it from being saved. */
import type { Schemas } from "@/api/client";
import { SCHEDULE_DEFAULTS } from "@/api/defaults";

type Body = Schemas["ScheduleDraftBodyRequest"];
/** Groups are known by their ids here. */
export type Draft = Omit<Body, "include" | "exclude"> & {
  include: number[];
  exclude: number[];
  include_devices: string[];
  excluded: string[];
  parameters: Record<string, unknown>;
};
export type Template = Schemas["TemplateRow"];

export const START: Draft = {
  ...SCHEDULE_DEFAULTS,
  parameters: {},
  include: [],
  exclude: [],
  include_devices: [],
  excluded: [],
  when: "repeat",
  rule: "FREQ=DAILY",
  time_of_day: "05:30",
};

/** A saved command as a draft, to be changed or to begin another from. */
export function draftOf(row: Schemas["ScheduleRow"], devices: string[]): Draft {
  return {
    ...START,
    template: row.template.key,
    parameters: row.parameters,
    name: row.name,
    reason: row.reason,
    ticket: row.ticket,
    include: row.include.map((g) => g.id),
    exclude: row.exclude.map((g) => g.id),
    include_devices: devices,
    when: row.when,
    clock: row.clock,
    starts_on: row.starts_on,
    time_of_day: row.time_of_day?.slice(0, 5) ?? null,
    rule: row.rule,
    excluded: row.excluded,
    spread_minutes: row.spread_minutes,
    expires_after_minutes: row.expires_after_minutes,
    max_concurrent: row.max_concurrent,
    at_once_per_site: row.at_once_per_site,
    freezes: row.freezes,
    late: row.late,
    overlap: row.overlap,
  };
}

/** Whether it is for anybody: no group and no device is nobody. */
export const isForSomebody = (draft: Draft) => draft.include.length + draft.include_devices.length > 0;

/** The draft with another time; what does not go with it is taken out. */
export function withWhen(draft: Draft, when: Draft["when"], today: string): Draft {
  if (when === "now") return { ...draft, when, starts_on: null, time_of_day: null, rule: "", excluded: [] };
  const time_of_day = draft.time_of_day ?? "05:30";
  if (when === "once")
    return { ...draft, when, time_of_day, starts_on: draft.starts_on ?? today, rule: "", excluded: [] };
  return { ...draft, when, time_of_day, rule: draft.rule || "FREQ=DAILY" };
}

/** The draft with another template; the parameters of the one before do not go with it. */
export function withTemplate(draft: Draft, template: string): Draft {
  return draft.template === template ? draft : { ...draft, template, parameters: {} };
}
