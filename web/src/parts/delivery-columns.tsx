/** The columns in which deliveries are listed, for rollouts and commands alike. */
import type { Schemas } from "@/api/client";
import { counted, relative, waitWords } from "@/lib/format";
import { Dial } from "./dial";
import { LOOK } from "./phases";
import type { Column } from "./table";

type Row = Schemas["DeliveryRow"];

export function useDeliveryColumns(now: Date): Column<Row>[] {
  return [
    {
      key: "device",
      head: "Device",
      width: "minmax(100px, 1fr)",
      cell: (d) => <strong className="font-semibold">{d.device}</strong>,
    },
    {
      key: "phase",
      head: "Phase",
      width: "minmax(120px, 1fr)",
      cell: (d) => (
        <span className="flex items-center gap-2">
          <Dial phase={d.phase} held={d.hold_reason !== ""} /> {d.hold_reason ? "held back" : LOOK[d.phase].word}
          {d.deferred_at && d.phase === "staged" && (
            <span
              className="text-soft"
              title={`${counted(d.times_deferred, "time")}, last ${relative(d.deferred_at, now)}`}
            >
              put off
            </span>
          )}
          {d.max_attempts > 1 && d.attempt > 1 && <span className="text-soft">try {d.attempt}</span>}
        </span>
      ),
    },
    {
      key: "waits",
      head: "Waits for",
      width: "minmax(180px, 1.9fr)",
      cell: (d) => (d.waits_for ? waitWords(d.waits_for, now) : ""),
    },
    { key: "since", head: "Since", width: "minmax(90px, 0.8fr)", cell: (d) => relative(d.phase_since, now) },
    {
      key: "error",
      head: "Last error",
      width: "minmax(110px, 1fr)",
      cell: (d) =>
        d.last_error && (
          <span className="font-mono text-brick text-xs" title={d.last_error_text}>
            {d.last_error}
          </span>
        ),
    },
    {
      key: "firmware",
      head: "Reports",
      width: "minmax(70px, 0.7fr)",
      cell: (d) => <span className="font-mono">{d.firmware ?? ""}</span>,
    },
    { key: "ring", head: "Ring", width: "44px", cell: (d) => d.ring ?? "" },
    { key: "model", head: "Model", width: "minmax(80px, 0.8fr)", cell: (d) => d.model },
    { key: "site", head: "Site", width: "minmax(90px, 1fr)", cell: (d) => d.site },
  ];
}
