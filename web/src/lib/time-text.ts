/** Times of day as people type them: 24 hours, whatever the browser's own language would show. */

/** "6", "630", "6:30", "6.30" or "0630" as "06:30"; null where it is no time of day. */
export function timeOfDay(text: string): string | null {
  const match = /^(\d{1,2})(?:[:.h ]?(\d{2}))?$/.exec(text.trim());
  if (!match) return null;
  const [hour, minute] = [Number(match[1]), Number(match[2] ?? 0)];
  if (hour > 23 || minute > 59) return null;
  return `${String(hour).padStart(2, "0")}:${String(minute).padStart(2, "0")}`;
}
