/** What a command gave on one device: read, searched, compared with the time before, downloaded. */
import { useQuery } from "@tanstack/react-query";
import clsx from "clsx";
import { useState } from "react";
import { useClock } from "@/lib/clock";
import { count, counted, instant } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Modal } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { comparedOutput, output as outputQuery } from "./queries";

export function OutputOf({ delivery, device, onClose }: { delivery: number; device: string; onClose: () => void }) {
  const [words, setWords] = useState("");
  const [compared, setCompared] = useState(false);
  const settled = useDebounced(words, 250);
  const asked = useQuery(outputQuery(delivery, settled));
  return (
    <Modal open onClose={onClose} title={`What it gave on ${device}`}>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <input
          className="field w-56"
          aria-label="Find in the output"
          placeholder="Find lines with…"
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        <label className="flex items-center gap-1.5">
          <input type="checkbox" checked={compared} onChange={(e) => setCompared(e.target.checked)} />
          compare with its last
        </label>
        <a
          className="ml-auto rounded-sm border border-ink bg-card px-3 py-1 font-semibold hover:bg-side"
          href={`/api/v1/deliveries/${delivery}/output/file`}
          download
        >
          Download
        </a>
      </div>
      {compared ? (
        <Compared delivery={delivery} />
      ) : (
        <Loaded
          of={{ ...asked, isPlaceholderData: asked.isPlaceholderData || settled !== words }}
          what="The output"
          rows={8}
        >
          {(data) => (
            <>
              <p className="mb-1 text-soft" aria-live="polite">
                {settled
                  ? `${counted(data.found, "line")} found`
                  : `${counted(data.found, "line")}, ${count(data.size)} bytes`}
                {data.next !== null && `, the first ${count(data.lines.length)} shown`}
                {data.is_cut && <span className="text-saffron-ink"> · cut: the device sent more than is kept</span>}
              </p>
              {data.lines.length === 0 && !settled && <p className="text-soft">It gave no output.</p>}
              <ol className="max-h-[46vh] overflow-auto rounded-sm border border-rule bg-paper p-2 font-mono text-xs">
                {data.lines.map((line) => (
                  <li key={line.number} className="flex gap-3 whitespace-pre-wrap">
                    <span className="w-10 shrink-0 select-none text-right text-soft">{line.number}</span>
                    <span className="min-w-0 break-words">{line.text}</span>
                  </li>
                ))}
              </ol>
            </>
          )}
        </Loaded>
      )}
      <div className="mt-4 flex justify-end">
        <Button onClick={onClose}>Close</Button>
      </div>
    </Modal>
  );
}

function Compared({ delivery }: { delivery: number }) {
  const { now, zone } = useClock();
  const asked = useQuery(comparedOutput(delivery));
  return (
    <Loaded of={asked} what="The comparison" rows={8}>
      {(data) =>
        data.before === null ? (
          <p className="text-soft">There is nothing to compare with: this command has sent no other output there.</p>
        ) : (
          <>
            <p className="mb-1 text-soft">
              Compared with the one of {data.before_at && instant(data.before_at, zone, now)}
              {data.lines.length === 0 && ": nothing differs"}
            </p>
            <ol className="max-h-[46vh] overflow-auto rounded-sm border border-rule bg-paper p-2 font-mono text-xs">
              {data.lines.map((line, i) => (
                <li
                  // biome-ignore lint/suspicious/noArrayIndexKey: lines of a diff have nothing else, and never move
                  key={i}
                  className={clsx("whitespace-pre-wrap break-words", {
                    "text-verdigris": line.startsWith("+"),
                    "text-brick": line.startsWith("-"),
                    "text-soft": line.startsWith("@"),
                  })}
                >
                  {line || " "}
                </li>
              ))}
            </ol>
          </>
        )
      }
    </Loaded>
  );
}
