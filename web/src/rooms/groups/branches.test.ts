import { expect, test } from "vitest";
import type { Schemas } from "@/api/client";
import { branches, destinations } from "./branches";

const folder = (id: number, name: string, parent: number | null = null) => ({ id, name, parent, device_count: 0 });
const group = (id: number, folder_id: number | null) => ({ id, name: `g${id}`, folder_id }) as Schemas["GroupRow"];
const FOLDERS = [folder(1, "Field"), folder(2, "North", 1), folder(3, "People")];

test("folders come before groups, and what is in a closed folder is left out", () => {
  const groups = [group(10, null), group(11, 1), group(12, 2)];
  const shown = (closed: number[]) =>
    branches(FOLDERS, groups, new Set(closed)).map(
      (b) => `${"  ".repeat(b.depth)}${b.kind === "folder" ? b.folder.name : b.group.name}`,
    );
  expect(shown([])).toEqual(["Field", "  North", "    g12", "  g11", "People", "g10"]);
  expect(shown([1])).toEqual(["Field", "People", "g10"]);
});

test("a folder cannot go into itself or what is in it", () => {
  expect(destinations(FOLDERS, null).map((d) => d.path)).toEqual(["Field", "Field / North", "People"]);
  expect(destinations(FOLDERS, 1).map((d) => d.path)).toEqual(["People"]);
});
