/** The manifest of a folder of images: which file is which image, and what each needs. */
import type { Schemas } from "@/api/client";

export type Entry = { file: string } & Omit<Schemas["ImageDraftRequest"], "upload">;

export interface Listed {
  entry: Entry;
  /** the file of that name; none where the folder lacks it */
  file?: File;
}

const WORDS = ["version", "channel", "notes", "released_on", "expires_on", "min_version", "max_version"] as const;
const NUMBERS = ["free_space_mb", "min_battery_pct", "expected_minutes", "soak_minutes"] as const;
const LISTS = ["models", "hardware_revisions"] as const;
const KNOWN = new Set<string>(["file", ...WORDS, ...NUMBERS, ...LISTS]);

/**
 * The images that a manifest lists: `{"images": [{"file": …, "version": …, "models": […], …}]}`, or the list alone.
 *
 * @throws Error with words that say which entry does not fit and why.
 */
export function readManifest(text: string): Entry[] {
  let whole: unknown;
  try {
    whole = JSON.parse(text);
  } catch {
    throw new Error("manifest.json is no JSON.");
  }
  const list = Array.isArray(whole) ? whole : (whole as { images?: unknown } | null)?.images;
  if (!Array.isArray(list)) throw new Error("manifest.json has no list of images.");
  const entries = list.map((given, i) => readEntry(given, `Image ${i + 1} of manifest.json`));
  const twice = entries.find((e, i) => entries.findIndex((x) => x.file === e.file) !== i);
  if (twice) throw new Error(`manifest.json names ${twice.file} twice.`);
  return entries;
}

function readEntry(given: unknown, where: string): Entry {
  if (typeof given !== "object" || given === null || Array.isArray(given)) throw new Error(`${where} is no object.`);
  const fields = given as Record<string, unknown>;
  for (const key of ["file", "version"] as const)
    if (typeof fields[key] !== "string" || !fields[key]) throw new Error(`${where} says no ${key}.`);
  const unknown = Object.keys(fields).find((k) => !KNOWN.has(k));
  if (unknown) throw new Error(`${where} says ${unknown}, which is no field of an image.`);
  for (const key of LISTS)
    if (fields[key] !== undefined && !(Array.isArray(fields[key]) && fields[key].every((x) => typeof x === "string")))
      throw new Error(`${where}: ${key} is a list of words.`);
  for (const key of NUMBERS)
    if (fields[key] != null && typeof fields[key] !== "number") throw new Error(`${where}: ${key} is a number.`);
  for (const key of WORDS)
    if (fields[key] != null && typeof fields[key] !== "string") throw new Error(`${where}: ${key} is text.`);
  if (!Array.isArray(fields.models) || fields.models.length === 0) throw new Error(`${where} is for no model.`);
  return fields as unknown as Entry;
}

/** The manifest among the files of a folder, the one nearest to its top. */
export function findManifest(files: File[]): File | undefined {
  return files.filter((f) => f.name === "manifest.json").sort((a, b) => depth(a) - depth(b))[0];
}

const depth = (file: File) => (file.webkitRelativePath || file.name).split("/").length;

/** Each entry with its file, by the name or the path below the manifest's folder. */
export function matched(entries: Entry[], files: File[], manifest: File): Listed[] {
  const top = (manifest.webkitRelativePath || manifest.name).split("/").slice(0, -1).join("/");
  const path = (f: File) => (f.webkitRelativePath || f.name).slice(top ? top.length + 1 : 0);
  return entries.map((entry) => ({ entry, file: files.find((f) => path(f) === entry.file) }));
}
