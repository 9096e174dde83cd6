/** What a change of a schedule does to its firings: those to come are others, those under way stay as they are. */
import { DateTime } from "luxon";
import type { Schemas } from "@/api/client";
import { city, counted } from "@/lib/format";

export function ChangeEffects({ change }: { change: Schemas["ScheduleChangePreview"] }) {
  const zones = change.preview.zones.map((after) => ({
    zone: after.zone,
    after: after.firings[0],
    before: change.zones_before.find((z) => z.zone === after.zone)?.firings[0],
  }));
  const moved = zones.filter((z) => z.before?.at !== z.after?.at);
  const underWay = change.waiting + change.in_hand;
  const difference = change.preview.devices - change.devices_before;
  const at = (firing: Schemas["FiringView"] | undefined, zone: string) =>
    firing ? DateTime.fromISO(firing.at, { zone }).toFormat("ccc d LLL HH:mm") : "never";
  return (
    <section className="mt-1 mb-3 border-rule border-b pb-3">
      <h3 className="font-sans font-semibold">What the change does</h3>
      {moved.length === 0 ? (
        <p className="text-soft">The next firings stay where they are.</p>
      ) : (
        <ul className="text-xs tabular-nums">
          {moved.slice(0, 6).map((z) => (
            <li key={z.zone}>
              {city(z.zone)}: <s className="text-soft">{at(z.before, z.zone)}</s> → {at(z.after, z.zone)}
            </li>
          ))}
          {moved.length > 6 && <li className="text-soft">and {moved.length - 6} more zones</li>}
        </ul>
      )}
      {difference !== 0 && (
        <p>
          For {counted(Math.abs(difference), "device")} {difference > 0 ? "more" : "fewer"} than before, as of now.
        </p>
      )}
      <p className="text-soft">
        {underWay
          ? `A firing is under way for ${counted(underWay, "device")}: it goes on as it was ordered.`
          : "No firing is under way."}
      </p>
    </section>
  );
}
