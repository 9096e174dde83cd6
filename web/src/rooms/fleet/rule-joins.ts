/** Narrowing the fleet: clauses joined to a rule, and quick words as a rule. */
import { written } from "@/parts/clauses";

/** Two rules that must both hold; each in parentheses where it has an "or". */
export function both(first: string, second: string): string {
  const parts = [first.trim(), second.trim()].filter(Boolean);
  if (parts.length < 2) return parts[0] ?? "";
  return parts.map((p) => (/\bor\b/i.test(p) ? `(${p})` : p)).join(" and ");
}

const AND = /\s+and\s+/;
const clauseOf = (field: string, value: string) => `${field} = ${written(value)}`;

/** Whether a rule says by a line of its own that a field has this value. */
export function isNarrowed(rule: string, field: string, value: string): boolean {
  return rule.trim().split(AND).includes(clauseOf(field, value));
}

/** A rule narrowed to one value of a field; unchanged where it says so already. */
export function narrowed(rule: string, field: string, value: string): string {
  return isNarrowed(rule, field, value) ? rule.trim() : both(rule, clauseOf(field, value));
}

/** A rule without the line that narrows it to this value; unchanged where it has none. */
export function widened(rule: string, field: string, value: string): string {
  const clause = clauseOf(field, value);
  const parts = rule.trim().split(/(\s+and\s+)/);
  const at = parts.indexOf(clause);
  if (at < 0) return rule;
  // the line goes with the "and" before it, or with the one after it where it is the first
  parts.splice(at === 0 ? 0 : at - 1, 2);
  return parts.join("").trim();
}

/** A rule narrowed to some values of a field. */
export function narrowedToAny(rule: string, field: string, values: string[]): string {
  const [only] = values;
  if (values.length === 1 && only !== undefined) return narrowed(rule, field, only);
  return both(rule, `${field} any of (${values.map(written).join(", ")})`);
}

/** What the quick words find, as a rule: each word somewhere in name, uid, serial, model or site. */
export function wordsRule(words: string): string {
  const places = ["name", "uid", "serial", "model", "site"];
  return words
    .split(/\s+/)
    .filter(Boolean)
    .slice(0, 8)
    .map((w) => `(${places.map((p) => `${p} contains ${written(w)}`).join(" or ")})`)
    .join(" and ");
}
