/** Rules put together from their lines; the same forms as the server prints. */

/** A clause taken apart; `values` as they are written in a rule. */
export interface ClauseParts {
  field: string;
  op: string;
  values: string[];
}

/** How many values an operator takes: none, one, two or any number. */
export type Arity = "none" | "one" | "two" | "many";

export function arity(op: string): Arity {
  if (op === "is set" || op === "is missing") return "none";
  if (op === "between") return "two";
  return /^(any|all|none) of$/.test(op) ? "many" : "one";
}

/** A word as it is written in a rule: in quotes unless it is one plain word. */
export function written(value: string): string {
  const plain = /^[^\s"(),=<>!]+$/.test(value) && !/^(and|or|not)$/i.test(value);
  return plain ? value : `"${value.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`;
}

/** A written word without its quotes, as it is shown and typed. */
export function spoken(value: string): string {
  return value.startsWith('"') ? value.slice(1, -1).replace(/\\(["\\])/g, "$1") : value;
}

/** A clause as text, or null while a value is lacking. */
export function clauseText({ field, op, values }: ClauseParts, negated = false): string | null {
  const filled = values.filter((v) => spoken(v).trim() !== "");
  const wanted = { none: 0, one: 1, two: 2, many: 1 }[arity(op)];
  if (!field || !op || filled.length < wanted) return null;
  const head = `${negated ? "not " : ""}${field} ${op}`;
  switch (arity(op)) {
    case "none":
      return head;
    case "one":
      return `${head} ${filled[0]}`;
    case "two":
      return `${head} ${filled[0]} and ${filled[1]}`;
    case "many":
      return `${head} (${filled.join(", ")})`;
  }
}

/** Lines that must all be true, as one rule with a line each. */
export function joined(lines: string[]): string {
  return lines.join("\nand ");
}
