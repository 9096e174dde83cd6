/** On how many devices something failed, day by day; pressing a day says what it was. */
import { Link } from "@tanstack/react-router";
import clsx from "clsx";
import { useState } from "react";
import { useClock } from "@/lib/clock";
import { count, counted, listed } from "@/lib/format";
import { Button, Card } from "@/parts/controls";
import { dayWords, everyDay, type FailedDay, total, worstOf } from "./failed-words";

export function FailedDays({ failed, days }: { failed: FailedDay[]; days: number }) {
  const { now } = useClock();
  const [chosen, setChosen] = useState<string | null>(null);
  const worst = worstOf(failed);
  const latest = failed.at(-1);
  if (!worst || !latest)
    return (
      <Card title="What failed" className="mb-4">
        <p className="text-soft">Nothing failed in these {days} days, or it was tried again since.</p>
      </Card>
    );
  const shown = everyDay(failed, now, days);
  const opened = failed.find((d) => d.day === chosen) ?? latest;
  const place = failed.indexOf(opened);
  const turn = (by: number) => setChosen(failed[place + by]?.day ?? null);
  return (
    <Card title="What failed" aside="devices a day (UTC); what was tried again since is not counted" className="mb-4">
      <div className="flex h-24 items-end gap-px border-rule border-b">
        {shown.map(({ day, of }) =>
          of ? (
            <button
              key={day}
              type="button"
              tabIndex={-1} // the keys go by the buttons below, from one day with failures to the next
              aria-pressed={of === opened}
              aria-label={`${dayWords(day)}: ${counted(total(of), "device")}`}
              title={`${dayWords(day)}: ${counted(total(of), "device")}`}
              className="flex h-full min-w-0 flex-1 flex-col justify-end hover:bg-side"
              onClick={() => setChosen(day)}
            >
              <span
                className={clsx("w-full", of === opened ? "bg-brick" : "bg-brick/45")}
                style={{ height: `${Math.max(4, (100 * total(of)) / total(worst))}%` }}
              />
            </button>
          ) : (
            <span key={day} className="min-w-0 flex-1" />
          ),
        )}
      </div>
      <div className="mt-1 flex justify-between gap-3 text-soft text-xs">
        <span>{dayWords(shown[0]?.day ?? opened.day)}</span>
        <span>
          at most {counted(total(worst), "device")}, on {dayWords(worst.day)}
        </span>
        <span>today</span>
      </div>
      <div className="mt-3 mb-1 flex items-center gap-2">
        <h3 className="mr-auto font-semibold">
          {dayWords(opened.day)}: {failedWords(opened)}
        </h3>
        <Button aria-label="The day before on which something failed" disabled={place < 1} onClick={() => turn(-1)}>
          ‹
        </Button>
        <Button
          aria-label="The next day on which something failed"
          disabled={place === failed.length - 1}
          onClick={() => turn(1)}
        >
          ›
        </Button>
      </div>
      <ul>
        {opened.of.map((f) => (
          <li key={`${f.kind} ${f.id}`} className="flex gap-3">
            <Link
              to={f.kind === "rollout" ? "/rollouts/$id" : "/commands/$id"}
              params={{ id: String(f.id) }}
              search={{ phase: "failed" }}
              className="hover:underline"
            >
              {f.title}
            </Link>
            <span className="ml-auto">{counted(f.devices, "device")}</span>
          </li>
        ))}
        {opened.others > 0 && <li className="text-soft">and {count(opened.others)} more</li>}
      </ul>
    </Card>
  );
}

function failedWords(day: FailedDay): string {
  const parts = [
    day.installs ? counted(day.installs, "install") : "",
    day.commands ? counted(day.commands, "command") : "",
  ];
  return `${listed(parts.filter(Boolean))} failed`;
}
