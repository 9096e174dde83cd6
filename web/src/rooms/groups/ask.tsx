/** Ask about one device: why it is in, or not, line by line. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError } from "@/api/client";
import { explanation } from "@/api/queries";
import { useDebounced } from "@/parts/use-debounced";

export function Ask({ rule }: { rule: string }) {
  const [word, setWord] = useState("");
  const device = useDebounced(word.trim(), 250);
  const { data, error } = useQuery(explanation(rule, device));
  const unknown = error instanceof ApiError && error.status === 404;
  return (
    <section>
      <h2 className="mb-1 text-[1.05rem]">Ask about one device</h2>
      <input
        className="field w-full"
        aria-label="Name or id of a device"
        placeholder="Its name or maker's id"
        value={word}
        onChange={(e) => setWord(e.target.value)}
      />
      <div className="mt-2 space-y-1.5" aria-live="polite">
        {device && unknown && <p className="text-soft">No device is called {device}.</p>}
        {device && data && (
          <>
            {data.clauses.map((c) => (
              <div key={c.text} className="grid grid-cols-[1rem_1fr]">
                <span aria-hidden className={c.true ? "text-verdigris" : "text-brick"}>
                  {c.true ? "●" : "✕"}
                </span>
                <span>
                  <code className="font-mono text-xs">{c.text}</code>
                  <span className="sr-only">{c.true ? " is true" : " is not true"}</span>
                  <span className="block text-soft">
                    {c.value}
                    {!c.true && c.why && <span className="block">{c.why}</span>}
                  </span>
                </span>
              </div>
            ))}
            <p className="font-semibold">
              {data.member
                ? "It matches."
                : `Not matched: ${data.clauses.filter((c) => !c.true).length} of ${data.clauses.length} lines fail.`}
            </p>
          </>
        )}
      </div>
    </section>
  );
}
