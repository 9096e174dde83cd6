/** A freeze in a row: the whole row hatched, with its name. */
import clsx from "clsx";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { dragged, useGrid } from "./grid";
import { canMove, devicesIn, type Freeze, minutesOf, moveOf, stretch } from "./model";
import { useDrag } from "./use-drag";

export function FreezeBand({ freeze, row }: { freeze: Freeze; row: string }) {
  const { days, span, onMove } = useGrid();
  const { now, zone } = useClock();
  const what = { kind: "freeze", of: freeze } as const;
  const isMovable = useMay("operate") && canMove(what);
  const { drag, handlers } = useDrag(isMovable, (edge, dx, width) => {
    const move = moveOf(what, edge, minutesOf(dx, width, span, days));
    if (move) onMove(move);
  });
  const at = stretch(freeze.starts_at, freeze.ends_at, days);
  if (!at) return null;
  const words = `Freeze “${freeze.name}” from ${instant(freeze.starts_at, zone, now)} to ${instant(freeze.ends_at, zone, now)}, holds ${counted(devicesIn(freeze.devices, row), "device")} here`;
  const edge = "absolute inset-y-0 w-1.5 cursor-ew-resize touch-none";
  return (
    <span
      className={clsx(
        "frozen absolute inset-y-0 touch-none border-plum border-x text-plum",
        dragged(isMovable, drag !== null),
      )}
      style={{
        ...at,
        transform: drag?.edge === "both" ? `translateX(${drag.dx}px)` : undefined,
        marginLeft: drag?.edge === "start" ? drag.dx : undefined,
        paddingRight: drag?.edge === "end" ? Math.max(0, drag.dx) : undefined,
      }}
      title={isMovable ? `${words}; drag to move it` : words}
      data-freeze={freeze.id}
      {...handlers("both")}
    >
      <span className="absolute top-0 right-1 max-w-full truncate bg-card/80 px-0.5 text-[0.7rem] leading-3.5">
        {freeze.name}
      </span>
      {isMovable && (
        <>
          <span className={clsx(edge, "left-0")} {...handlers("start")} />
          <span className={clsx(edge, "right-0")} {...handlers("end")} />
        </>
      )}
    </span>
  );
}
