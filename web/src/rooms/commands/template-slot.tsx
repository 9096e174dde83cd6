/** What the command does: a template, and a field for each of its parameters. */
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { ApiError } from "@/api/client";
import { templates as templatesQuery } from "@/api/queries";
import { Labelled } from "@/parts/controls";
import { harmOf } from "@/parts/harm";
import { ParameterField, type ParameterSchema } from "@/parts/parameter-field";
import { Loaded } from "@/parts/views";
import { type Draft, type Template, withTemplate } from "./draft";

export function TemplateSlot({ draft, onChange }: { draft: Draft; onChange: (draft: Draft) => void }) {
  const templates = useQuery(templatesQuery);
  return (
    <Loaded of={templates} what="The commands" rows={8}>
      {(all) => (
        <>
          <div role="radiogroup" aria-label="Command" className="grid grid-cols-2 gap-x-6 max-lg:grid-cols-1">
            {all.map((t) => (
              <label
                key={t.key}
                className="flex cursor-pointer items-start gap-2 rounded-sm px-2 py-1.5 hover:bg-side has-checked:bg-wash"
              >
                <input
                  type="radio"
                  name="template"
                  className="mt-1 accent-[var(--verdigris)]"
                  checked={draft.template === t.key}
                  onChange={() => onChange(withTemplate(draft, t.key))}
                />
                <span className="min-w-0">
                  <span className="font-semibold">{t.name}</span>{" "}
                  <span className={harmOf(t.harm).tone}>
                    <span aria-hidden>{harmOf(t.harm).mark}</span> {t.harm}
                  </span>
                  <span className="block text-soft">{t.note}</span>
                </span>
              </label>
            ))}
          </div>
          <p className="mt-2 text-soft">
            Commands of your own, from what a model offers:{" "}
            <Link to="/library" search={{ shelf: "commands" }} className="slot">
              Library, Commands
            </Link>
          </p>
        </>
      )}
    </Loaded>
  );
}

export function ParametersSlot({
  template,
  draft,
  onChange,
  error,
}: {
  template: Template | undefined;
  draft: Draft;
  onChange: (draft: Draft) => void;
  error: unknown;
}) {
  const schema = (template?.schema ?? {}) as ParameterSchema;
  const set = (key: string, value: unknown) => {
    const { [key]: _, ...others } = draft.parameters;
    onChange({ ...draft, parameters: value === undefined ? others : { ...others, [key]: value } });
  };
  const problems = error instanceof ApiError ? error.errors : [];
  return (
    <div className="flex flex-wrap items-start gap-x-6 gap-y-3">
      {Object.entries(schema.properties ?? {}).map(([key, parameter]) => (
        <div key={key}>
          <Labelled
            label={`${parameter.title ?? key}${schema.required?.includes(key) ? "" : ", if any"}`}
            hint={parameter.description}
          >
            <ParameterField parameter={parameter} value={draft.parameters[key]} onChange={(value) => set(key, value)} />
          </Labelled>
          {problems
            .filter((p) => p.pointer === `/parameters/${key}`)
            .map((p) => (
              <p key={p.message} role="alert" className="text-brick">
                {p.message}
              </p>
            ))}
        </div>
      ))}
    </div>
  );
}
