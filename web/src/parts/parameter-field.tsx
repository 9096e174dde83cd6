/** A field for a parameter of a command, by its type; JSON Schema is underneath. */

export interface Parameter {
  type: "string" | "integer" | "number" | "boolean";
  title?: string;
  description?: string;
  default?: unknown;
  enum?: string[];
  minimum?: number;
  maximum?: number;
  maxLength?: number;
  "x-unit"?: string;
  "x-secret"?: boolean;
}

export interface ParameterSchema {
  properties?: Record<string, Parameter>;
  required?: string[];
}

export function ParameterField({
  parameter,
  value,
  onChange,
}: {
  parameter: Parameter;
  value: unknown;
  /** undefined takes it out, so that its default holds */
  onChange: (value: unknown) => void;
}) {
  const shown = value ?? parameter.default ?? "";
  if (parameter.enum) {
    return (
      <select className="field" value={String(shown)} onChange={(e) => onChange(e.target.value || undefined)}>
        {parameter.default === undefined && <option value="">choose…</option>}
        {parameter.enum.map((word) => (
          <option key={word}>{word}</option>
        ))}
      </select>
    );
  }
  if (parameter.type === "boolean") {
    return (
      <select className="field" value={shown ? "yes" : "no"} onChange={(e) => onChange(e.target.value === "yes")}>
        <option>yes</option>
        <option>no</option>
      </select>
    );
  }
  if (parameter.type === "string") {
    return (
      <input
        className="field w-64"
        autoComplete="off"
        spellCheck={false}
        maxLength={parameter.maxLength}
        value={String(shown)}
        onChange={(e) => onChange(e.target.value || undefined)}
      />
    );
  }
  return (
    <span className="flex items-center gap-2">
      <input
        type="number"
        className="field w-24"
        min={parameter.minimum}
        max={parameter.maximum}
        step={parameter.type === "integer" ? 1 : "any"}
        value={String(shown)}
        onChange={(e) => onChange(e.target.value === "" ? undefined : Number(e.target.value))}
      />
      <span className="text-soft">
        {parameter["x-unit"]}
        {parameter.minimum !== undefined && parameter.maximum !== undefined && (
          <>
            {" "}
            ({parameter.minimum} to {parameter.maximum})
          </>
        )}
      </span>
    </span>
  );
}
