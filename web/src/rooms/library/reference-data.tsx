/** The shelves of sites, models and custodians. */
import { useQuery } from "@tanstack/react-query";
import { api, body, type Schemas } from "@/api/client";
import { custodians as custodiansQuery, models as modelsQuery, sites as sitesQuery } from "@/api/queries";
import { count } from "@/lib/format";
import { wordsIn } from "@/lib/words";
import { TagList } from "@/parts/tag-list";
import { Capabilities } from "./capabilities";
import { ReferenceTable, type ThingKind } from "./reference-table";

type Values = Record<string, string>;
const by = (id: number) => ({ path: { id } });
const words = (text: string | undefined) => wordsIn(text ?? "");

const siteOf = (v: Values): Schemas["SiteDraftRequest"] => ({
  name: v.name ?? "",
  region: v.region ?? "",
  time_zone: v.time_zone ?? "",
  transfers_at_once: Number(v.transfers_at_once || 20),
});
const SITES: ThingKind<Schemas["SiteRow"]> = {
  word: "site",
  field: "site",
  intro: "Where devices are. The zone is the clock by which windows and schedules run there.",
  heads: ["Region", "Time zone", "Transfers at once"],
  cells: (s) => [s.region, s.time_zone, count(s.transfers_at_once)],
  fields: [
    { key: "name", label: "Name", needed: true },
    { key: "region", label: "Region" },
    { key: "time_zone", label: "Time zone", needed: true, list: Intl.supportedValuesOf("timeZone") },
    { key: "transfers_at_once", label: "Transfers at once", hint: "How many files its uplink carries together." },
  ],
  read: (s) => ({
    name: s.name,
    region: s.region,
    time_zone: s.time_zone,
    transfers_at_once: String(s.transfers_at_once),
  }),
  create: (v) => body(api.POST("/api/v1/sites", { body: siteOf(v) })),
  change: (id, v) => body(api.PATCH("/api/v1/sites/{id}", { params: by(id), body: siteOf(v) })),
  preview: (id, v) => body(api.POST("/api/v1/sites/{id}/preview", { params: by(id), body: siteOf(v) })),
  remove: (id) => body(api.DELETE("/api/v1/sites/{id}", { params: by(id) })),
};

const modelOf = (v: Values): Schemas["ModelDraftRequest"] => ({ name: v.name ?? "", family: v.family ?? "" });
const MODELS: ThingKind<Schemas["ModelRow"]> = {
  word: "model",
  field: "model",
  intro: "What devices are. Models of one family take images of the same names.",
  heads: ["Family"],
  cells: (m) => [m.family],
  fields: [
    { key: "name", label: "Name", needed: true },
    { key: "family", label: "Family", needed: true },
  ],
  read: (m) => ({ name: m.name, family: m.family }),
  create: (v) => body(api.POST("/api/v1/models", { body: modelOf(v) })),
  change: (id, v) => body(api.PATCH("/api/v1/models/{id}", { params: by(id), body: modelOf(v) })),
  preview: (id, v) => body(api.POST("/api/v1/models/{id}/preview", { params: by(id), body: modelOf(v) })),
  remove: (id) => body(api.DELETE("/api/v1/models/{id}", { params: by(id) })),
};

const custodianOf = (v: Values): Schemas["CustodianDraftRequest"] => ({
  name: v.name ?? "",
  email: v.email ?? "",
  tags: words(v.tags),
});
const CUSTODIANS: ThingKind<Schemas["CustodianRow"]> = {
  word: "custodian",
  field: "custodian",
  intro: "Who answers for devices. Rules can aim by their tags: custodian_tag = on-call.",
  heads: ["E-mail", "Tags"],
  cells: (c) => [c.email, <TagList key="t" slugs={c.tags} />],
  fields: [
    { key: "name", label: "Name", needed: true },
    { key: "email", label: "E-mail", needed: true },
    { key: "tags", label: "Tags, between commas" },
  ],
  read: (c) => ({ name: c.name, email: c.email, tags: c.tags.join(", ") }),
  create: (v) => body(api.POST("/api/v1/custodians", { body: custodianOf(v) })),
  change: (id, v) => body(api.PATCH("/api/v1/custodians/{id}", { params: by(id), body: custodianOf(v) })),
  preview: (id, v) => body(api.POST("/api/v1/custodians/{id}/preview", { params: by(id), body: custodianOf(v) })),
  remove: (id) => body(api.DELETE("/api/v1/custodians/{id}", { params: by(id) })),
};

export function Sites() {
  const asked = useQuery(sitesQuery);
  return <ReferenceTable kind={SITES} of={asked} />;
}

export function Models() {
  const asked = useQuery(modelsQuery);
  return (
    <>
      <ReferenceTable kind={MODELS} of={asked} />
      <Capabilities />
    </>
  );
}

export function Custodians() {
  const asked = useQuery(custodiansQuery);
  return <ReferenceTable kind={CUSTODIANS} of={asked} />;
}
