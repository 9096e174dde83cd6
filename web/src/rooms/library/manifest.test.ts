import { describe, expect, it } from "vitest";
import { findManifest, matched, readManifest } from "./manifest";

const entry = { file: "sill-5.2.1.bin", version: "5.2.1", models: ["Sill 400"] };
const inFolder = (path: string) => {
  const file = new File(["x"], path.split("/").at(-1) ?? "");
  Object.defineProperty(file, "webkitRelativePath", { value: path });
  return file;
};

describe("readManifest", () => {
  it("takes a list, bare or under images", () => {
    expect(readManifest(JSON.stringify([entry]))).toEqual([entry]);
    expect(readManifest(JSON.stringify({ images: [{ ...entry, soak_minutes: 5 }] }))).toEqual([
      { ...entry, soak_minutes: 5 },
    ]);
  });
  it.each([
    ["{", "no JSON"],
    ["{}", "no list of images"],
    [JSON.stringify([5]), "Image 1 of manifest.json is no object"],
    [JSON.stringify([entry, { ...entry, version: "" }]), "Image 2 of manifest.json says no version"],
    [JSON.stringify([{ ...entry, models: [] }]), "is for no model"],
    [JSON.stringify([{ ...entry, models: "Sill 400" }]), "models is a list of words"],
    [JSON.stringify([{ ...entry, soak_minutes: "5" }]), "soak_minutes is a number"],
    [JSON.stringify([{ ...entry, minutes: 5 }]), "says minutes, which is no field"],
    [JSON.stringify([{ ...entry, notes: 5 }]), "notes is text"],
    [JSON.stringify([entry, entry]), "names sill-5.2.1.bin twice"],
  ])("says what is wrong with %s", (text, words) => {
    expect(() => readManifest(text)).toThrow(words);
  });
});

describe("a folder", () => {
  it("is matched by paths below the manifest", () => {
    const files = ["in/sub/manifest.json", "in/manifest.json", "in/sill-5.2.1.bin", "in/sub/sill-5.2.1.bin"].map(
      inFolder,
    );
    const manifest = findManifest(files);
    expect(manifest?.webkitRelativePath).toBe("in/manifest.json");
    if (!manifest) return;
    const found = matched(
      [entry, { ...entry, file: "sub/sill-5.2.1.bin" }, { ...entry, file: "gone.bin" }],
      files,
      manifest,
    );
    expect(found.map((f) => f.file?.webkitRelativePath)).toEqual([
      "in/sill-5.2.1.bin",
      "in/sub/sill-5.2.1.bin",
      undefined,
    ]);
    expect(findManifest([])).toBeUndefined();
  });
});
