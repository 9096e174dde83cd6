/** What the API takes for what a request leaves out. Written from the API's schema; do not edit. */

export const ROLLOUT_DEFAULTS = {
  downgrades: false,
  follows_audience: false,
  spread_minutes: 15,
  freeze_override_reason: "",
  notice: "",
  rule_filter: "",
  prefetch: false,
  failure_limit_pct: 2.0,
  name: "",
  purpose: "",
  ticket: "",
  expires_after_hours: 336,
  max_concurrent: 200,
  max_attempts: 2,
} as const;

export const SCHEDULE_DEFAULTS = {
  template: "restart",
  name: "",
  reason: "",
  ticket: "",
  clock: "device",
  rule: "",
  spread_minutes: 20,
  expires_after_minutes: 120,
  max_concurrent: 500,
  freezes: "wait",
  late: "drop",
  overlap: "wait",
} as const;
