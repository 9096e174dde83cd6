/** What the failed devices share that the confirmed ones do not, and holding back those that wait and match. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "@/api/client";
import { count, counted, percent } from "@/lib/format";
import { Button, Card } from "@/parts/controls";
import { Hold } from "@/parts/hold";
import { Loaded } from "@/parts/views";
import { commonCauses } from "./queries";

export function CommonCauses({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  const failed = rollout.phases.failed ?? 0;
  const asked = useQuery(commonCauses(rollout.id, failed));
  const [holding, setHolding] = useState<Schemas["CauseRow"] | null>(null);
  const open = rollout.ended_at === null;
  if (failed === 0) return null;
  return (
    <Card title="Common causes" aside={counted(failed, "failed", "failed")}>
      <Loaded of={asked} what="The common causes">
        {(data) => (
          <>
            {data.errors.length > 0 && <Errors failed={data.failed} rows={data.errors} />}
            {data.causes.length === 0 && (
              <p className="text-soft">
                Nothing else links them: nothing that the {count(data.failed)} failed have in common tells them from the{" "}
                {count(data.confirmed)} confirmed.
              </p>
            )}
            <ul className="space-y-3">
              {data.causes.map((c) => (
                <li key={c.rule}>
                  <Link to="/fleet" search={{ rule: c.rule }} className="slot font-mono text-xs">
                    {c.rule}
                  </Link>
                  <p>
                    <strong className="text-brick">
                      {count(c.failed_with)} of {count(c.tried_with)}
                    </strong>{" "}
                    tried failed; without it{" "}
                    <strong>
                      {count(c.failed_without)} of {count(c.tried_without)}
                    </strong>{" "}
                    ({percent(c.tried_without ? c.failed_without / c.tried_without : 0)}).
                  </p>
                  <p className="text-soft text-xs">
                    {c.risk_ratio.toFixed(c.risk_ratio < 10 ? 1 : 0)} times as likely · {chance(c.q)}
                  </p>
                  {open && c.waiting > 0 && (
                    <Button needs="operate" kind="main" className="mt-1" onClick={() => setHolding(c)}>
                      Hold the {count(c.waiting)} that wait…
                    </Button>
                  )}
                </li>
              ))}
            </ul>
          </>
        )}
      </Loaded>
      {holding && (
        <Hold
          rollout={rollout.id}
          whom={{ rule: holding.rule, devices: [] }}
          why={`Failed ones share ${holding.rule}`.slice(0, 120)}
          onClose={() => setHolding(null)}
        />
      )}
    </Card>
  );
}

/** With which words they failed: what is known before anything is computed. */
function Errors({ failed, rows }: { failed: number; rows: Schemas["FailedWith"][] }) {
  const [first, ...rest] = rows;
  if (!first) return null;
  const word = <code className="font-mono">{first.error || "no error word"}</code>;
  return (
    <p className="mb-2">
      {rest.length === 0 ? (
        <>
          {failed === 1 ? "It" : `All ${count(failed)}`} failed with {word}.
        </>
      ) : (
        <>
          <strong>
            {count(first.devices)} of {count(failed)}
          </strong>{" "}
          failed with {word}
          {rest.slice(0, 3).map((row) => (
            <span key={row.error}>
              , {count(row.devices)} with <code className="font-mono">{row.error || "no error word"}</code>
            </span>
          ))}
          .
        </>
      )}
    </p>
  );
}

function chance(q: number): string {
  return q < 0.0001 ? "by chance less than once in 10,000 looks" : `by chance ${percent(q, 1)} of looks`;
}
