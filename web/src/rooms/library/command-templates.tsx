/** Commands: what can be run on devices; the built-in ones, and one's own of what models offer. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, type Schemas } from "@/api/client";
import { templates as templatesQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { counted } from "@/lib/format";
import { Button, Empty, Problem } from "@/parts/controls";
import { harmOf } from "@/parts/harm";
import type { ParameterSchema } from "@/parts/parameter-field";
import { Removal, Shelf } from "./shelf-table";
import { TemplateForm } from "./template-form";

type Template = Schemas["TemplateRow"];

export function CommandTemplates() {
  const client = useQueryClient();
  const asked = useQuery(templatesQuery);
  const mayOperate = useMay("operate-all");
  const [open, setOpen] = useState<Template | "new" | null>(null);
  const drop = useMutation({
    mutationFn: (key: string) => api.DELETE("/api/v1/command-templates/{key}", { params: { path: { key } } }),
    onSuccess: () => changed(client, "templates"),
  });
  return (
    <>
      <div className="mb-3 flex items-baseline gap-4">
        <p className="text-soft">What devices can be told to do. Your own are made from what models offer.</p>
        <Button needs="operate-all" className="ml-auto" onClick={() => setOpen("new")}>
          New command…
        </Button>
      </div>
      <Problem error={drop.error} />
      <Shelf
        of={asked}
        what="The commands"
        heads={["Command", "Harm", "Parameters", "For", "A device is at it"]}
        empty={<Empty title="No command">The built-in ones come with each installation.</Empty>}
      >
        {(t) => (
          <tr key={t.key} className="border-rule border-t align-top">
            <td className="px-3 py-1.5">
              <strong className="font-semibold">{t.name}</strong>
              {!t.is_built_in && (
                <span className="ml-2 font-mono text-soft text-xs">
                  {t.action === "named" ? t.action_name : t.action}
                </span>
              )}
              {t.note && <div className="max-w-[48ch] text-soft">{t.note}</div>}
            </td>
            <td className={`whitespace-nowrap px-3 py-1.5 ${harmOf(t.harm).tone}`}>
              <span aria-hidden>{harmOf(t.harm).mark}</span> {t.harm}
            </td>
            <td className="px-3 py-1.5">{parameterWords(t.schema as ParameterSchema)}</td>
            <td className="px-3 py-1.5">{t.models.map(offerWords).join(", ") || "whatever can do it"}</td>
            <td className="whitespace-nowrap px-3 py-1.5">{counted(t.minutes, "minute")}</td>
            <td className="whitespace-nowrap px-3 py-1 text-right">
              {mayOperate && (
                <Link to="/commands/new" search={{ template: t.key }} className="slot mr-3">
                  Run…
                </Link>
              )}
              {!t.is_built_in && (
                <>
                  <Button
                    needs="operate-all"
                    kind="quiet"
                    aria-label={`Change the command ${t.name}`}
                    onClick={() => setOpen(t)}
                  >
                    Change…
                  </Button>
                  <Removal
                    word="Remove…"
                    title={`Remove the command ${t.name}?`}
                    action="Remove it"
                    onConfirm={() => drop.mutate(t.key)}
                  >
                    It is offered no more. What was run with it stays; one that is scheduled and not ended keeps it from
                    going.
                  </Removal>
                </>
              )}
            </td>
          </tr>
        )}
      </Shelf>
      {open && (
        <TemplateForm
          key={open === "new" ? "" : open.key}
          template={open === "new" ? null : open}
          onClose={() => setOpen(null)}
        />
      )}
    </>
  );
}

function parameterWords(schema: ParameterSchema) {
  const names = Object.entries(schema.properties ?? {}).map(([key, p]) => p.title ?? key);
  return names.length ? names.join(", ") : <span className="text-soft">none</span>;
}

function offerWords({ name, from_version, to_version }: Schemas["OfferRow"]): string {
  const ends = [from_version && `from ${from_version}`, to_version && `up to ${to_version}`].filter(Boolean);
  return [name, ...ends].join(" ");
}
