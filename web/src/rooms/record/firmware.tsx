/** Which firmware runs where: each model and each site, and how much of it is on an approved version. Made to be
 * printed. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { Schemas } from "@/api/client";
import { useClock } from "@/lib/clock";
import { count, counted, fullInstant, percent } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { Bar, Button } from "@/parts/controls";
import { Exports } from "@/parts/list-parts";
import { NoDevices } from "@/parts/no-devices";
import { Loaded } from "@/parts/views";
import { firmwareReport } from "./queries";
import { ReportMails } from "./report-mails";

type Row = Schemas["FirmwareOfPlace"];

export function FirmwarePage() {
  usePageTitle("Firmware by model and site");
  const asked = useQuery(firmwareReport);
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: nothing in it may take the focus, and it must scroll by keyboard
    <section aria-label="Firmware by model and site" tabIndex={0} className="h-full overflow-auto px-5 py-4">
      <div className="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="text-2xl">Firmware by model and site</h1>
        <Link to="/record" search={{}} className="text-verdigris hover:underline print:hidden">
          Record
        </Link>
        <Exports address={(as) => `/api/v1/reports/firmware/table?format=${as}`} className="ml-auto print:hidden" />
        <Button className="print:hidden" onClick={() => window.print()}>
          Print
        </Button>
      </div>
      <Loaded
        of={asked}
        what="The firmware of the fleet"
        rows={10}
        isEmpty={(report) => report.models.length === 0}
        empty={<NoDevices />}
      >
        {(report) => (
          <>
            <Whole report={report} />
            <Table title="By model" first="Model" rows={report.models} withTarget />
            <Table title="By site" first="Site" rows={report.sites} />
          </>
        )}
      </Loaded>
      <ReportMails only="firmware" />
    </section>
  );
}

function Whole({ report }: { report: Schemas["FirmwareReportAnswer"] }) {
  const { zone } = useClock();
  const sum = (of: (row: Row) => number) => report.models.reduce((all, row) => all + of(row), 0);
  const [devices, approved] = [sum((r) => r.devices), sum((r) => r.approved)];
  return (
    <p className="mb-4 text-lg">
      {count(approved)} of {counted(devices, "admitted device")} ({percent(approved / devices)}) report a version that
      is approved for their model. <span className="text-base text-soft">As of {fullInstant(report.at, zone)}.</span>
    </p>
  );
}

function Table({
  title,
  first,
  rows,
  withTarget,
}: {
  title: string;
  first: string;
  rows: Row[];
  withTarget?: boolean;
}) {
  return (
    <section className="mb-6">
      <h2 className="mb-1 text-lg">{title}</h2>
      <table className="w-full rounded-md border border-rule bg-card" aria-label={title}>
        <thead className="text-left text-soft">
          <tr>
            <th scope="col" className="px-3 py-1.5 font-normal">
              {first}
            </th>
            {withTarget && (
              <th scope="col" className="px-3 py-1.5 font-normal">
                Newest approved
              </th>
            )}
            {HEADS.map((h) => (
              <th key={h} scope="col" className="px-3 py-1.5 text-right font-normal">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.name} className="border-rule border-t">
              <th scope="row" className="px-3 py-1.5 text-left font-semibold">
                {row.name}
              </th>
              {withTarget && (
                <td className="px-3 font-mono">{row.target || <span className="font-sans text-soft">none</span>}</td>
              )}
              <td className={NUMBER}>{count(row.devices)}</td>
              <td className={NUMBER}>
                <span className="inline-flex items-center gap-2">
                  <span className="w-16">
                    <Bar
                      thin
                      share={row.approved / row.devices}
                      label={`${percent(row.approved / row.devices)} on one`}
                    />
                  </span>
                  <span className="w-[7.5rem]">
                    {count(row.approved)} · {percent(row.approved / row.devices)}
                  </span>
                </span>
              </td>
              <td className={NUMBER}>{count(row.newest)}</td>
              <td className={NUMBER}>
                <Others row={row} />
              </td>
              <td className={NUMBER}>{count(row.unknown)}</td>
              <td className={NUMBER}>{count(row.on_time)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

const HEADS = [
  "Devices",
  "On an approved version",
  "On the newest",
  "Not on an approved one",
  "Version not known",
  "Called on time",
];
const NUMBER = "px-3 text-right tabular-nums";

/** How many are on no approved version; it leads to them. */
function Others({ row }: { row: Row }) {
  const others = count(row.devices - row.approved);
  if (!row.rule) return <>{others}</>;
  return (
    <Link to="/fleet" search={{ rule: row.rule }} className="slot">
      {others}
    </Link>
  );
}
