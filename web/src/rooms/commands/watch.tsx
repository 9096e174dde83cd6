/** A schedule's page: its sentence, its firings with dates, and how each went on every device. */
import { useQuery } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { city, count, counted, instant, percent } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { AboutLine } from "@/parts/about-fields";
import { Comments } from "@/parts/comments";
import { Button, Card } from "@/parts/controls";
import { useDeliveryColumns } from "@/parts/delivery-columns";
import { IN_MOTION, OFFERED, OUT, summary } from "@/parts/phases";
import { Sentence } from "@/parts/sentence";
import { Table, type Column as TableColumn } from "@/parts/table";
import { Inline, Loaded, WholePage } from "@/parts/views";
import { Acts } from "./acts";
import { Answers } from "./answers";
import { FiringStrip, when } from "./firing-strip";
import { OutputOf } from "./output";
import { howItWent, scheduleDeliveries, schedule as scheduleQuery } from "./queries";
import { columnsOf, totals } from "./strip";

const commandRoute = getRouteApi("/commands/$id");

type Row = Schemas["CommandDeliveryRow"];
type Detail = Schemas["ScheduleDetail"];

export function CommandPage() {
  const { id } = commandRoute.useParams();
  const asked = useQuery(scheduleQuery(Number(id)));
  usePageTitle(asked.data && (asked.data.name || `Command ${id}`));
  return (
    <WholePage of={asked} what={`Command ${id}`}>
      {(data) => (
        <div className="flex h-full flex-col gap-3 overflow-auto px-5 py-4">
          <Head data={data} />
          <Card title="Firings" aside="press one to see how it went; the latest at the right">
            <Strip data={data} />
          </Card>
          <Firing data={data} />
          <Comments about="schedule" id={data.id} />
        </div>
      )}
    </WholePage>
  );
}

function Head({ data }: { data: Detail }) {
  const { now, zone } = useClock();
  return (
    <div className="flex items-start gap-6 max-lg:flex-col max-lg:gap-3">
      <div className="min-w-0 flex-1">
        {data.name && <p className="font-semibold">{data.name}</p>}
        <Sentence className="text-[1.4rem]" parts={data.sentence} />
        <p className="mt-1 text-soft">
          Schedule {data.id} · since {instant(data.created_at, zone, now)}
          {data.created_by && ` by ${data.created_by}`}
          {data.approved_by && `, approved by ${data.approved_by}`} ·{" "}
          <span className={data.quarantined ? "text-brick" : "text-ink"}>{data.status.words}</span>
          {data.next_firing &&
            ` · next: ${city(data.next_zone ?? "")} ${instant(data.next_firing, zone, now)} (your clock)`}
        </p>
        <AboutLine reason={data.reason} ticket={data.ticket} />
        <Record id={data.id} />
      </div>
      <Acts schedule={data} />
    </div>
  );
}

/** How it went over the last 30 days, and who misses it again and again. */
function Record({ id }: { id: number }) {
  const asked = useQuery(howItWent(id));
  return (
    <Inline of={asked}>
      {({ shares, missing }) => {
        if (shares.devices === 0) return null;
        const parts: [number, string][] = [
          [shares.done, "done in time"],
          [shares.late, "done late"],
          [shares.missed, "missed"],
          [shares.failed, "failed"],
          [shares.left, "withdrawn or replaced"],
          [shares.open, "not ended"],
        ];
        const told = parts.filter(([n]) => n).map(([n, words]) => `${percent(n / shares.devices)} ${words}`);
        return (
          <span className="block text-soft">
            Last 30 days, {counted(shares.devices, "device firing")}: {told.join(" · ")}
            {missing.length > 0 && (
              <>
                {" · "}
                <span className="text-saffron-ink">
                  <span aria-hidden>◆</span> {counted(missing.length, "device")} missed it twice or more in a row:
                </span>{" "}
                {missing.slice(0, 4).map((d, i) => (
                  <span key={d.id} className="whitespace-nowrap">
                    {i > 0 && ", "}
                    <Link to="/devices/$name" params={{ name: d.name }} className="slot">
                      {d.name}
                    </Link>{" "}
                    ({d.in_a_row})
                  </span>
                ))}
                {missing.length > 4 && ` and ${missing.length - 4} more`}
              </>
            )}
          </span>
        );
      }}
    </Inline>
  );
}

/** The firing that is looked at: the one in the address, else the latest. */
function useFiring(data: Detail) {
  const { firing } = commandRoute.useSearch();
  const columns = columnsOf(data.occurrences);
  return columns.find((c) => c.key === firing) ?? columns.at(-1);
}

function Strip({ data }: { data: Detail }) {
  const navigate = useNavigate({ from: "/commands/$id" });
  const firing = useFiring(data);
  return (
    <FiringStrip
      schedule={data}
      chosen={firing?.key ?? ""}
      onChoose={(c) => navigate({ search: { firing: c.key }, replace: true })}
    />
  );
}

function Firing({ data }: { data: Detail }) {
  const search = commandRoute.useSearch();
  const navigate = useNavigate({ from: "/commands/$id" });
  const { now, zone } = useClock();
  const firing = useFiring(data);
  const occurrences = firing?.occurrences.map((o) => o.id).sort((a, b) => a - b) ?? [];
  const deliveries = useQuery({
    ...scheduleDeliveries(data.id, { occurrences, answer: search.answer, phase: search.phase }),
    enabled: firing !== undefined,
  });
  const [shown, setShown] = useState<Row | null>(null);
  const columns: TableColumn<Row>[] = [
    ...(useDeliveryColumns(now).filter((c) => !["ring", "firmware"].includes(c.key)) as TableColumn<Row>[]),
    {
      key: "answer",
      head: "Answer",
      width: "minmax(120px, 1.2fr)",
      cell: (d) => (
        <span className="flex items-center gap-2">
          <span className="min-w-0 truncate" title={d.answer}>
            {d.answer}
          </span>
          {d.has_output && (
            <Button
              kind="quiet"
              aria-label={`Output of ${d.device}`}
              onClick={(e) => {
                e.stopPropagation();
                setShown(d);
              }}
            >
              output
            </Button>
          )}
        </span>
      ),
    },
  ];
  if (!firing) return null;
  const { audience, phases } = totals(firing.occurrences);
  return (
    <>
      <Card
        title={`${firing.isExtra ? "Run" : "Firing"} of ${when(firing, zone)}`}
        aside={`${counted(audience, "device")} · ${summary(phases)}`}
      >
        <Answers
          key={firing.key}
          id={data.id}
          occurrences={occurrences}
          chosen={search.answer}
          onChoose={(answer) => navigate({ search: (s) => ({ ...s, answer }), replace: true })}
        />
      </Card>
      <div className="flex items-center gap-3">
        <h2 className="text-[1.05rem]">Devices</h2>
        <select
          className="field"
          aria-label="Phase"
          value={search.phase ?? ""}
          onChange={(e) => navigate({ search: (s) => ({ ...s, phase: e.target.value || undefined }), replace: true })}
        >
          <option value="">every phase</option>
          <option value="waiting">waiting</option>
          <option value={IN_MOTION.join(",")}>in motion</option>
          <option value={OFFERED.join(",")}>offered</option>
          <option value="confirmed">confirmed</option>
          <option value="failed">failed</option>
          <option value={OUT.join(",")}>missed or withdrawn</option>
        </select>
        {search.answer && (
          <span className="flex items-center gap-1 rounded-sm border border-rule bg-side pl-2">
            one answer only
            <button
              type="button"
              aria-label="Show every answer"
              className="min-h-[26px] px-1.5 text-soft hover:text-brick"
              onClick={() => navigate({ search: (s) => ({ ...s, answer: undefined }), replace: true })}
            >
              ×
            </button>
          </span>
        )}
        <p className="ml-auto text-soft" aria-live="polite">
          <Inline of={deliveries}>{(found) => `${count(found.count)} listed`}</Inline>
        </p>
      </div>
      <Loaded of={deliveries} what="The devices" rows={8} className="min-h-64 flex-1">
        {(found) => (
          <Table
            label="Deliveries"
            rows={found.deliveries}
            columns={columns}
            onOpen={(d) => navigate({ to: "/devices/$name", params: { name: d.device } })}
            empty={
              search.phase || search.answer
                ? "No device of this firing is in this phase and answer."
                : firing.occurrences.some((o) => o.only_totals)
                  ? "What became of each device is kept no longer; how many ended how stands above."
                  : "This firing was for no device."
            }
          />
        )}
      </Loaded>
      {shown && <OutputOf delivery={shown.id} device={shown.device} onClose={() => setShown(null)} />}
    </>
  );
}
