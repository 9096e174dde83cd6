/** The sieve: what each line lets through, alone and after those before it. A line can be changed by pressing it. */
import clsx from "clsx";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { count, counted } from "@/lib/format";
import { joined } from "@/parts/clauses";
import { Button } from "@/parts/controls";
import { LineEditor } from "./line-editor";

export function Sieve({
  data,
  busy,
  onChange,
}: {
  data: Schemas["RuleSieve"];
  busy: boolean;
  onChange: (rule: string) => void;
}) {
  const [open, setOpen] = useState<number | "new" | null>(null);
  const lines = data.lines.map((l) => l.text);
  const replaced = (index: number, text: string) => joined(lines.map((l, i) => (i === index ? text : l)));
  const done = (rule: string) => {
    setOpen(null);
    onChange(rule);
  };
  return (
    <section aria-label="Sieve: what each line lets through">
      <div className="flex items-baseline gap-3">
        <h2 className="text-[1.05rem]">Sieve: what each line lets through</h2>
        <Button kind="quiet" onClick={() => setOpen("new")}>
          Add a line
        </Button>
        <p className="ml-auto text-soft">{busy ? "counting…" : `${count(data.fleet)} devices`}</p>
      </div>
      <div className={clsx("overflow-auto rounded-md border border-rule bg-card", open === null && "max-h-[13.5rem]")}>
        <table className="w-full table-fixed">
          <thead className="text-soft text-xs">
            <tr>
              <th className="w-[46%] px-3 pt-1 text-left font-normal">line</th>
              <th className="font-normal">
                <span className="sr-only">as bars</span>
              </th>
              <th className="w-20 px-3 text-right font-normal">alone</th>
              <th className="w-24 px-3 text-right font-normal">left so far</th>
              <th className="w-12">
                <span className="sr-only">remove</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {data.lines.map((line, index) =>
              open === index ? (
                <tr key={line.text}>
                  <td colSpan={5} className="p-0">
                    <LineEditor
                      start={line.clause}
                      negated={line.negated}
                      onDone={(text) => done(replaced(index, text))}
                      onCancel={() => setOpen(null)}
                    />
                  </td>
                </tr>
              ) : (
                <Row
                  key={line.text}
                  line={line}
                  fleet={data.fleet}
                  onOpen={line.clause ? () => setOpen(index) : undefined}
                  onRemove={lines.length > 1 ? () => done(joined(lines.filter((_, i) => i !== index))) : undefined}
                />
              ),
            )}
            {open === "new" && (
              <tr>
                <td colSpan={5} className="p-0">
                  <LineEditor
                    start={null}
                    negated={false}
                    onDone={(text) => done(joined([...lines, text]))}
                    onCancel={() => setOpen(null)}
                  />
                </td>
              </tr>
            )}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function Row({
  line,
  fleet,
  onOpen,
  onRemove,
}: {
  line: Schemas["SieveLine"];
  fleet: number;
  onOpen?: () => void;
  onRemove?: () => void;
}) {
  const width = (n: number) => `${fleet ? (n / fleet) * 100 : 0}%`;
  const text = <code className="break-words font-mono text-xs">{line.text}</code>;
  return (
    <tr className="border-rule border-t">
      <td className="px-3 py-1">
        {onOpen ? (
          <button type="button" className="slot text-left" onClick={onOpen} title="Change this line">
            {text}
          </button>
        ) : (
          text
        )}
        {line.missing > 0 && (
          <span className="block text-soft text-xs">
            {counted(line.missing, "device has", "devices have")} no {line.clause?.field}: never true of them
          </span>
        )}
      </td>
      <td className="px-3">
        <div aria-hidden className="space-y-[2px]">
          <div className="h-[4px] bg-rule" style={{ width: width(line.alone) }} />
          <div className="h-[7px] bg-verdigris" style={{ width: width(line.left) }} />
        </div>
      </td>
      <td className="px-3 text-right text-soft">{count(line.alone)}</td>
      <td className={`px-3 text-right font-semibold ${line.left === 0 ? "text-brick" : ""}`}>{count(line.left)}</td>
      <td className="pr-2 text-right">
        {onRemove && (
          <button
            type="button"
            className="px-1.5 text-soft hover:text-brick"
            aria-label={`Remove the line ${line.text}`}
            onClick={onRemove}
          >
            ✕
          </button>
        )}
      </td>
    </tr>
  );
}
