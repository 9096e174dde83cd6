/** Ask about one device or several: why each is in, or not, line by line. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { compared } from "@/api/queries";
import { useDebounced } from "@/lib/use-debounced";
import { Failed, Skeleton } from "@/parts/views";

/** The words of a question: names or ids between blanks, commas or semicolons, each once. */
export function wordsOf(text: string): string[] {
  return [...new Set(text.split(/[\s,;]+/).filter(Boolean))].slice(0, 50);
}

export function Ask({ rule }: { rule: string }) {
  const [text, setText] = useState("");
  const settled = useDebounced(text, 250);
  const asked = useQuery(compared(rule, wordsOf(settled)));
  const { data } = asked;
  const asks = wordsOf(settled).length > 0;
  const one = data?.devices.length === 1 ? data.devices[0] : undefined;
  return (
    <section>
      <h2 className="mb-1 text-[1.05rem]">Ask about a device, or several</h2>
      <input
        className="field w-full"
        aria-label="Names or UIDs of devices"
        placeholder="Names or UIDs"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <div className="mt-2 space-y-1.5" aria-live="polite">
        {asks && rule.trim() === "" && <p className="text-soft">Write a rule first.</p>}
        {asks &&
          rule.trim() !== "" &&
          !data &&
          (asked.error ? <Failed what="The answer" of={asked} /> : <Skeleton rows={2} />)}
        {asks && data && data.unknown.length > 0 && (
          <p className="text-soft">No device has the name or UID {data.unknown.join(", ")}.</p>
        )}
        {text && one && <Verdict device={one} />}
        {text && data && data.devices.length > 1 && <Together devices={data.devices} />}
      </div>
    </section>
  );
}

function Sign({ holds }: { holds: boolean }) {
  return (
    <>
      <span aria-hidden className={holds ? "text-verdigris" : "text-brick"}>
        {holds ? "●" : "✕"}
      </span>
      <span className="sr-only">{holds ? "true" : "not true"}</span>
    </>
  );
}

function Verdict({ device }: { device: Schemas["Explanation"] }) {
  const failed = device.clauses.filter((c) => !c.true).length;
  return (
    <>
      {device.clauses.map((c) => (
        <div key={c.text} className="grid grid-cols-[1rem_1fr]">
          <Sign holds={c.true} />
          <span>
            <code className="font-mono text-xs">{c.text}</code>
            <span className="block text-soft">
              {c.value}
              {!c.true && c.why && <span className="block">{c.why}</span>}
            </span>
          </span>
        </div>
      ))}
      <p className="font-semibold">
        {device.member ? "It matches." : `Not matched: ${failed} of ${device.clauses.length} lines fail.`}
      </p>
    </>
  );
}

function Together({ devices }: { devices: Schemas["Explanation"][] }) {
  const lines = devices[0]?.clauses ?? [];
  return (
    <div className="overflow-auto">
      <table className="text-xs">
        <thead>
          <tr>
            <th className="pr-2 text-left font-normal text-soft">line</th>
            {devices.map((d) => (
              <th key={d.device} className="px-1 text-left font-semibold">
                {d.device}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {lines.map((line, index) => (
            <tr key={line.text} className="border-rule border-t align-top">
              <td className="py-1 pr-2 font-mono">{line.text}</td>
              {devices.map((d) => (
                <td key={d.device} className="px-1 py-1">
                  <Sign holds={d.clauses[index]?.true ?? false} />
                  <span className="block text-soft">{d.clauses[index]?.value}</span>
                </td>
              ))}
            </tr>
          ))}
          <tr className="border-ink border-t font-semibold">
            <td className="py-1">matched</td>
            {devices.map((d) => (
              <td key={d.device} className="px-1 py-1">
                {d.member ? "yes" : "no"}
              </td>
            ))}
          </tr>
        </tbody>
      </table>
    </div>
  );
}
