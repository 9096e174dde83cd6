/** Reports by mail: which is sent to whom, on which days and when; what became of it. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { session as sessionQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { city, instant, listed } from "@/lib/format";
import { Button, Confirm, Labelled, Modal, Problem } from "@/parts/controls";
import { Days } from "@/parts/days";
import { TimeField } from "@/parts/time-fields";
import { Loaded } from "@/parts/views";
import { ZoneField } from "@/parts/zone-field";
import { reportMails } from "./queries";
import { addressesOf, onDays } from "./report-words";

type Row = Schemas["ReportMailRow"];
type Report = NonNullable<Schemas["ReportMailBodyRequest"]["report"]>;

const REPORTS: Record<Report, string> = {
  firmware: "Firmware by model and site",
  silent: "Silent devices",
  attention: "What needs attention",
};

/** The reports that one has sent; of one of them only, on that report's own page. */
export function ReportMails({ only }: { only?: Report }) {
  const client = useQueryClient();
  const asked = useQuery(reportMails);
  const [isAdding, setAdding] = useState(false);
  const done = { onSuccess: () => changed(client, "reportMails") };
  const path = (id: number) => ({ params: { path: { mail_id: id } } });
  const remove = useMutation({
    mutationFn: (id: number) => api.DELETE("/api/v1/report-mails/{mail_id}", path(id)),
    ...done,
  });
  const send = useMutation({
    mutationFn: (id: number) => body(api.POST("/api/v1/report-mails/{mail_id}/send", path(id))),
    ...done,
  });
  return (
    <section aria-labelledby="by-mail" className="mb-6 print:hidden">
      <h2 id="by-mail" className={only ? "mb-1 text-lg" : "sr-only"}>
        {only ? "By mail" : "What you have sent"}
      </h2>
      <Loaded
        of={asked}
        what="What you have sent by mail"
        rows={1}
        isEmpty={(rows) => rows.every((row) => only && row.report !== only)}
        empty={
          <p className="text-soft">
            {only
              ? "You have it sent to nobody. A mail holds these figures, and a file with all of it."
              : "You have none sent. A mail holds the figures of a report as you see it then, and a file with all of it."}
          </p>
        }
      >
        {(rows) => (
          <ul className="rounded-md border border-rule bg-card">
            {rows
              .filter((row) => !only || row.report === only)
              .map((row) => (
                <li key={row.id} className="flex items-baseline gap-3 border-rule border-t px-3 py-1.5 first:border-0">
                  <Told row={row} withReport={!only} />
                  <Button kind="quiet" disabled={send.isPending} onClick={() => send.mutate(row.id)}>
                    Send it now
                  </Button>
                  <Confirm
                    trigger={<Button kind="quiet">Delete…</Button>}
                    title={`Send it no more to ${listed(row.to)}?`}
                    action="Delete it"
                    danger
                    onConfirm={() => remove.mutate(row.id)}
                  >
                    No mail goes there from now on. What was sent stays where it is.
                  </Confirm>
                </li>
              ))}
          </ul>
        )}
      </Loaded>
      <Problem error={remove.error ?? send.error} />
      <Button className="mt-2" onClick={() => setAdding(true)}>
        {only ? "Have it sent…" : "Have a report sent…"}
      </Button>
      {isAdding && <NewReportMail only={only} onClose={() => setAdding(false)} />}
    </section>
  );
}

function Told({ row, withReport }: { row: Row; withReport: boolean }) {
  const { now, zone } = useClock();
  const next = `next ${instant(row.next_at, zone, now)} (${city(zone)})`;
  return (
    <span className="min-w-0 flex-1">
      {withReport && <>{REPORTS[row.report]} to </>}
      <strong>{listed(row.to)}</strong>, {onDays(row.days)} at {row.at.slice(0, 5)}, {city(row.zone)}
      <span className="block text-soft">
        {new Date(row.next_at) <= now ? "is being sent" : next} ·{" "}
        {row.last_sent_at ? `last sent ${instant(row.last_sent_at, zone, now)}` : "not sent yet"}
      </span>
      {row.last_words && <span className="block text-brick">The last try failed. {row.last_words}</span>}
    </span>
  );
}

function NewReportMail({ only, onClose }: { only?: Report; onClose: () => void }) {
  const client = useQueryClient();
  const { zone: here } = useClock();
  const { data } = useQuery(sessionQuery);
  const [report, setReport] = useState<Report>(only ?? "silent");
  const [to, setTo] = useState(data?.user?.email ?? "");
  const [days, setDays] = useState([0]);
  const [at, setAt] = useState("08:00");
  const [zone, setZone] = useState(here);
  const make = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/report-mails", {
          body: { report, to: addressesOf(to), days: days.length ? days : [0, 1, 2, 3, 4, 5, 6], at, zone },
        }),
      ),
    onSuccess: () => {
      changed(client, "reportMails");
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={only ? `Have “${REPORTS[only]}” sent` : "Have a report sent"}>
      <form
        className="space-y-3"
        noValidate
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        {!only && (
          <Labelled label="Report">
            <select className="field" value={report} onChange={(e) => setReport(e.target.value as Report)}>
              {Object.entries(REPORTS).map(([key, words]) => (
                <option key={key} value={key}>
                  {words}
                </option>
              ))}
            </select>
          </Labelled>
        )}
        <Labelled label="To" hint="one or several addresses; what they get is what you see">
          <input className="field" type="text" value={to} onChange={(e) => setTo(e.target.value)} />
        </Labelled>
        <Days chosen={days} onChange={setDays} />
        <div className="flex flex-wrap gap-4">
          <Labelled label="At">
            <TimeField required value={at} onChange={(time) => time && setAt(time)} />
          </Labelled>
          <Labelled label="By the clock of">
            <ZoneField value={zone} onChange={setZone} />
          </Labelled>
        </div>
        <Problem error={make.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={make.isPending}>
            Have it sent
          </Button>
        </div>
      </form>
    </Modal>
  );
}
