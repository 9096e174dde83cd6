/** The four states of what is asked of the server: loading, failed, empty and loaded. A page shows an answer through
 * these parts, so that nothing is claimed before it is known, and what is old says that it is. */
import clsx from "clsx";
import type { ReactNode } from "react";
import { ApiError } from "@/api/client";
import { useClock } from "@/lib/clock";
import { span } from "@/lib/format";
import { Button } from "./controls";

/** What these parts need of a query. */
export interface Answer<T> {
  data: T | undefined;
  error: Error | null;
  isPlaceholderData: boolean;
  dataUpdatedAt: number;
  refetch: () => unknown;
}

/** Grey lines of about the right size, without a word that could pass for an answer. */
export function Skeleton({ rows = 3, className }: { rows?: number; className?: string }) {
  return (
    <div aria-busy="true" data-state="loading" className={clsx("space-y-2 py-1", className)}>
      {Array.from({ length: rows }, (_, i) => (
        <div
          // biome-ignore lint/suspicious/noArrayIndexKey: lines of nothing
          key={i}
          className="h-5 animate-pulse rounded-sm bg-rule/60"
          style={{ width: `${[92, 78, 86, 64][i % 4]}%` }}
        />
      ))}
    </div>
  );
}

/** What could not be loaded, why, and a way to ask again. */
export function Failed({ what, of }: { what: string; of: Pick<Answer<unknown>, "error" | "refetch"> }) {
  return (
    <div role="alert" data-state="failed" className="flex flex-wrap items-baseline gap-x-3 gap-y-1 py-1">
      <span>
        <span aria-hidden className="text-brick">
          ▪{" "}
        </span>
        <strong>{what} could not be loaded.</strong> {reasonOf(of.error)}
      </span>
      <Button onClick={() => of.refetch()}>Try again</Button>
    </div>
  );
}

/** Said above what is shown although asking for it anew failed. */
export function Stale({ what, of }: { what: string; of: Answer<unknown> }) {
  useClock(); // the age below goes on
  return (
    <div role="status" data-state="stale" className="flex flex-wrap items-baseline gap-x-3 bg-wash px-2 py-1">
      <span>
        {what}: as of {span(Math.max(1, (Date.now() - of.dataUpdatedAt) / 1000))} ago. {reasonOf(of.error)}
      </span>
      <Button kind="quiet" onClick={() => of.refetch()}>
        Try again
      </Button>
    </div>
  );
}

function reasonOf(error: Error | null): string {
  if (error instanceof ApiError) return error.detail || error.title;
  return error ? error.message : "";
}

/**
 * An answer in one of its four states.
 *
 * `what` names it at the start of a sentence ("The list of rollouts"). `empty` is shown for an answer that holds
 * nothing: an empty list, or what `isEmpty` says. While an earlier answer stands in for one that is on its way, it is
 * faded and marked as busy.
 */
export function Loaded<T>({
  of,
  what,
  rows,
  skeleton,
  empty,
  isEmpty = (data) => Array.isArray(data) && data.length === 0,
  className,
  children,
}: {
  of: Answer<T>;
  what: string;
  rows?: number;
  skeleton?: ReactNode;
  empty?: ReactNode;
  isEmpty?: (data: T) => boolean;
  className?: string;
  children: (data: T) => ReactNode;
}) {
  if (of.data === undefined) return of.error ? <Failed what={what} of={of} /> : (skeleton ?? <Skeleton rows={rows} />);
  const older = of.isPlaceholderData;
  return (
    <div
      data-state={of.error ? "stale" : older ? "older" : "loaded"}
      aria-busy={older || undefined}
      className={clsx(className, older && "opacity-50")}
    >
      {of.error && <Stale what={what} of={of} />}
      {empty !== undefined && isEmpty(of.data) ? empty : children(of.data)}
    </div>
  );
}

/** A number or a few words out of an answer, in a line of text: an ellipsis while it is not known. */
export function Inline<T>({
  of,
  children,
}: {
  of: Pick<Answer<T>, "data" | "error" | "isPlaceholderData">;
  children: (data: T) => ReactNode;
}) {
  if (of.data === undefined)
    return (
      <span data-state={of.error ? "failed" : "loading"} aria-busy={!of.error} className="text-soft">
        {of.error ? "not loaded" : "…"}
      </span>
    );
  return <span className={clsx(of.isPlaceholderData && "opacity-50")}>{children(of.data)}</span>;
}

/** A page that is about one thing: nothing of it is shown before that has arrived. */
export function WholePage<T>({
  of,
  what,
  children,
}: {
  of: Answer<T>;
  what: string;
  children: (data: T) => ReactNode;
}) {
  if (of.data === undefined)
    return (
      <div className="max-w-[70ch] px-5 py-4">{of.error ? <Failed what={what} of={of} /> : <Skeleton rows={8} />}</div>
    );
  // the same elements whether or not a refresh failed: a page that is mounted anew loses what was typed in it
  return (
    <div className={of.error ? "flex h-full flex-col" : "contents"}>
      {of.error && <Stale what={what} of={of} />}
      <div className={of.error ? "grid min-h-0 flex-1" : "contents"}>{children(of.data)}</div>
    </div>
  );
}
