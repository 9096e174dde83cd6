/** A stretch of time in a row that can be dragged, by its middle or by an edge. */
import clsx from "clsx";
import type { ReactNode } from "react";
import { useMay } from "@/api/use-may";
import { dragged, useGrid } from "./grid";
import { canMove, type Movable, minutesOf, moveOf, stretch } from "./model";
import { useDrag } from "./use-drag";

const EDGE = "absolute inset-y-0 w-1.5 cursor-ew-resize touch-none";

export function MovableBand({
  what,
  from,
  until,
  words,
  hint,
  className,
  children,
}: {
  what: Movable;
  from: string;
  until: string;
  words: string;
  /** what dragging does, said to whoever may */
  hint: string;
  className: string;
  children?: ReactNode;
}) {
  const { days, span, onMove } = useGrid();
  const isMovable = useMay("operate-all") && canMove(what);
  const { drag, handlers } = useDrag(isMovable, (edge, dx, width) => {
    const move = moveOf(what, edge, minutesOf(dx, width, span, days));
    if (move) onMove(move);
  });
  const at = stretch(from, until, days);
  if (!at) return null;
  return (
    <span
      className={clsx("absolute touch-none", className, dragged(isMovable, drag !== null))}
      style={{
        ...at,
        transform: drag?.edge === "both" ? `translateX(${drag.dx}px)` : undefined,
        marginLeft: drag?.edge === "start" ? drag.dx : undefined,
        paddingRight: drag?.edge === "end" ? Math.max(0, drag.dx) : undefined,
      }}
      title={isMovable ? `${words}; ${hint}` : words}
      data-moves={`${what.kind} ${what.of.id}`}
      {...handlers("both")}
    >
      {children}
      {isMovable && (
        <>
          <span className={clsx(EDGE, "left-0")} {...handlers("start")} />
          <span className={clsx(EDGE, "right-0")} {...handlers("end")} />
        </>
      )}
    </span>
  );
}
