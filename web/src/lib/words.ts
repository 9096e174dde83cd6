/** What people type into one field that takes several words. */

/** Words typed one after another, parted by commas, semicolons or blanks. */
export function wordsIn(text: string): string[] {
  return text.split(/[,\s;]+/).filter(Boolean);
}
