/** What is wrong with the system itself, above every room: it must not be read past. */
import { useQuery } from "@tanstack/react-query";
import { DateTime } from "luxon";
import { ApiError, type Schemas } from "@/api/client";
import { readiness } from "@/api/queries";
import { useClock } from "@/lib/clock";

type Trouble = Schemas["TroubleView"];

/** The troubles that an answer of the readiness call tells, also where it says no. */
export function troublesIn(data: Schemas["Readiness"] | undefined, error: unknown): Trouble[] {
  if (error instanceof ApiError) {
    if (Array.isArray(error.body.troubles)) return error.body.troubles as Trouble[];
    const text =
      error.status === 503
        ? "The database does not answer: nothing is stored and nothing moves"
        : "The server does not answer: what you see may be old";
    return [{ kind: "unreachable", text, since: null }];
  }
  if (error) return [{ kind: "unreachable", text: "The server does not answer: what you see may be old", since: null }];
  return data?.troubles ?? [];
}

export function Troubles() {
  const { zone } = useClock();
  const { data, error } = useQuery(readiness);
  const troubles = troublesIn(data, error);
  if (troubles.length === 0) return null;
  return (
    <div role="alert" className="border-brick border-b-2 bg-card px-5 py-2">
      {troubles.map((t) => (
        <p key={t.kind} className="font-semibold text-brick">
          <span aria-hidden>■ </span>
          {t.text}
          {t.since && `, since ${DateTime.fromISO(t.since, { zone }).toFormat("ccc HH:mm:ss")} real time`}.
        </p>
      ))}
    </div>
  );
}
