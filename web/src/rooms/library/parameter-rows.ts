/** Parameters of an own command, as rows of a form, and as the JSON Schema that the server takes. */
import type { Parameter, ParameterSchema } from "@/parts/parameter-field";

export interface ParameterRow {
  key: string;
  title: string;
  type: "text" | "choice" | "whole number" | "number" | "yes or no";
  /** of a choice, separated by commas */
  choices: string;
  minimum: string;
  maximum: string;
  unit: string;
  default: string;
  required: boolean;
}

export const NEW_ROW: ParameterRow = {
  key: "",
  title: "",
  type: "text",
  choices: "",
  minimum: "",
  maximum: "",
  unit: "",
  default: "",
  required: false,
};

const TYPES: Record<ParameterRow["type"], Parameter["type"]> = {
  text: "string",
  choice: "string",
  "whole number": "integer",
  number: "number",
  "yes or no": "boolean",
};

const split = (choices: string) => choices.split(",").flatMap((c) => c.trim() || []);

/** The schema of these rows; rows without a key are not there yet. */
export function schemaOf(rows: ParameterRow[]): ParameterSchema & Record<string, unknown> {
  const kept = rows.filter((r) => r.key.trim());
  return {
    type: "object",
    properties: Object.fromEntries(kept.map((r) => [r.key.trim(), parameterOf(r)])),
    required: kept.filter((r) => r.required).map((r) => r.key.trim()),
    additionalProperties: false,
  };
}

function parameterOf(row: ParameterRow): Parameter {
  const made: Parameter = { type: TYPES[row.type] };
  if (row.title.trim()) made.title = row.title.trim();
  if (row.type === "choice") made.enum = split(row.choices);
  if (row.type === "number" || row.type === "whole number") {
    if (row.minimum !== "") made.minimum = Number(row.minimum);
    if (row.maximum !== "") made.maximum = Number(row.maximum);
    if (row.unit.trim()) made["x-unit"] = row.unit.trim();
  }
  if (row.default !== "") made.default = defaultOf(row);
  return made;
}

function defaultOf(row: ParameterRow): unknown {
  if (row.type === "yes or no") return row.default === "yes";
  return row.type === "number" || row.type === "whole number" ? Number(row.default) : row.default;
}

/** A schema as rows. */
export function rowsOf(schema: ParameterSchema): ParameterRow[] {
  return Object.entries(schema.properties ?? {}).map(([key, p]) => ({
    key,
    title: p.title ?? "",
    type: p.enum
      ? "choice"
      : p.type === "string"
        ? "text"
        : p.type === "integer"
          ? "whole number"
          : p.type === "number"
            ? "number"
            : "yes or no",
    choices: p.enum?.join(", ") ?? "",
    minimum: p.minimum?.toString() ?? "",
    maximum: p.maximum?.toString() ?? "",
    unit: p["x-unit"] ?? "",
    default: p.default === undefined ? "" : p.type === "boolean" ? (p.default ? "yes" : "no") : String(p.default),
    required: schema.required?.includes(key) ?? false,
  }));
}
