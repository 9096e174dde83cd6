/** A freeze in a row: the whole row hatched, with its name. */
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { devicesIn, type Freeze } from "./model";
import { MovableBand } from "./movable-band";

export function FreezeBand({ freeze, row }: { freeze: Freeze; row: string }) {
  const { now, zone } = useClock();
  const words = `Freeze “${freeze.name}” from ${instant(freeze.starts_at, zone, now)} to ${instant(freeze.ends_at, zone, now)}, holds ${counted(devicesIn(freeze.devices, row), "device")} here`;
  return (
    <MovableBand
      what={{ kind: "freeze", of: freeze }}
      from={freeze.starts_at}
      until={freeze.ends_at}
      words={words}
      hint="drag to move it"
      className="frozen inset-y-0 border-plum border-x text-plum"
    >
      <span className="absolute top-0 right-1 max-w-full truncate bg-card/80 px-0.5 text-[0.7rem] leading-3.5">
        {freeze.name}
      </span>
    </MovableBand>
  );
}
