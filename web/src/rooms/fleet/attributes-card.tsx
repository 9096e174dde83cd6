/** What operators say of a device: its tags, place, custodian and attributes, each changed in place. */

import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "@/api/client";
import { attributes as attributesQuery, custodians as custodiansQuery, sites as sitesQuery } from "@/api/queries";
import { everyWords, inWords } from "@/lib/format";
import { wordsIn } from "@/lib/words";
import { Card } from "@/parts/controls";
import { Pairs } from "@/parts/pairs";
import { TagList } from "@/parts/tag-list";
import { Loaded } from "@/parts/views";
import { InPlace } from "./in-place";
import { byName } from "./queries";

type Device = Schemas["DeviceDetail"];

export function AttributesCard({ device }: { device: Device }) {
  const attributes = useQuery(attributesQuery);
  const { data: sites } = useQuery(sitesQuery);
  const { data: custodians } = useQuery(custodiansQuery);
  const about = (change: Partial<Schemas["EditRequestRequest"]>) =>
    ({ target: { devices: [byName(device.name)], rule: "" }, ...change }) as Schemas["EditRequestRequest"];
  const has = device.attributes as Record<string, unknown>;
  const none = <span className="text-soft">none</span>;
  const tags = (text: string) => {
    const words = wordsIn(text);
    return about({
      add_tags: words.filter((w) => !device.tags.includes(w)),
      remove_tags: device.tags.filter((t) => !words.includes(t)),
    });
  };
  return (
    <Card title="Attributes" aside="press a value to change it">
      <Pairs
        rows={[
          [
            "Tags",
            <InPlace
              key="tags"
              label="Tags"
              field="tag"
              value={device.tags.join(", ")}
              shown={<TagList slugs={device.tags} none="none" />}
              request={tags}
            />,
          ],
          [
            "Site",
            <InPlace
              key="site"
              label="Site"
              field="site"
              value={device.site ?? ""}
              shown={device.site ?? none}
              choices={sites?.map((s) => s.name) ?? []}
              request={(site) => about({ site })}
            />,
          ],
          [
            "Custodian",
            <InPlace
              key="custodian"
              label="Custodian"
              field="custodian"
              value={device.custodian ?? ""}
              shown={device.custodian ?? none}
              choices={custodians?.map((c) => c.name) ?? []}
              request={(custodian) => about({ custodian })}
            />,
          ],
          [
            "Time zone",
            <InPlace
              key="zone"
              label="Time zone"
              field="time_zone"
              value={device.own_time_zone}
              shown={
                <>
                  {device.time_zone}
                  <span className="text-soft">{device.own_time_zone ? ", its own" : ", of its site"}</span>
                </>
              }
              request={(zone) => about({ own_time_zone: zone })}
            />,
          ],
          [
            "Check-in interval",
            <InPlace
              key="interval"
              label="Check-in interval in seconds"
              field=""
              value={String(device.check_in_interval_seconds)}
              shown={everyWords(device.check_in_interval_seconds)}
              request={(seconds) => about({ interval: Math.trunc(Number(seconds)) || 0 })}
            />,
          ],
          ...(attributes.data ?? []).map((a): [string, React.ReactNode] => [
            a.label,
            <InPlace
              key={a.key}
              label={a.label}
              field={a.key}
              value={inWords(has[a.key])}
              shown={
                inWords(has[a.key]) ? (
                  `${inWords(has[a.key])}${a.unit ? ` ${a.unit}` : ""}`
                ) : (
                  <span className={a.required ? "text-brick" : "text-soft"}>{a.required ? "required" : "none"}</span>
                )
              }
              choices={a.type === "choice" ? a.choices : a.type === "yes/no" ? ["yes", "no"] : undefined}
              request={(value) => about(value ? { set_attributes: { [a.key]: value } } : { clear_attributes: [a.key] })}
            />,
          ]),
        ]}
      />
      {!attributes.data && (
        <Loaded of={attributes} what="The attributes" rows={4}>
          {() => null}
        </Loaded>
      )}
    </Card>
  );
}
