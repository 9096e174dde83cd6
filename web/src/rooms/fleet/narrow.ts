import { written } from "@/parts/clauses";

/** A clause joined to a rule with "and", the rule in parentheses where it has an "or". */
export function narrowed(rule: string, field: string, value: string): string {
  const clause = `${field} = ${written(value)}`;
  const before = rule.trim();
  if (!before) return clause;
  if (before.includes(clause)) return before;
  return /\bor\b/i.test(before) ? `(${before}) and ${clause}` : `${before} and ${clause}`;
}
