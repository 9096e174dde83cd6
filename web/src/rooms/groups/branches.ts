/** The tree of folders and groups as the rows that are shown. */
import type { Schemas } from "@/api/client";

type Folder = Schemas["FolderRow"];
type Group = Schemas["GroupRow"];

export type Branch =
  | { kind: "folder"; depth: number; folder: Folder; open: boolean }
  | { kind: "group"; depth: number; group: Group };

/** Rows from the top: in each folder its folders, then its groups; what is in a closed folder is left out. */
export function branches(folders: Folder[], groups: Group[], closed: ReadonlySet<number>): Branch[] {
  const rows: Branch[] = [];
  const walk = (parent: number | null, depth: number) => {
    for (const folder of folders.filter((f) => f.parent === parent)) {
      const open = !closed.has(folder.id);
      rows.push({ kind: "folder", depth, folder, open });
      if (open) walk(folder.id, depth + 1);
    }
    for (const group of groups.filter((g) => g.folder_id === parent)) rows.push({ kind: "group", depth, group });
  };
  walk(null, 0);
  return rows;
}

/** Where something can be moved to: every folder with its path, without the folder itself and what is in it. */
export function destinations(folders: Folder[], moving: number | null): { id: number; path: string }[] {
  const found: { id: number; path: string }[] = [];
  const walk = (parent: number | null, path: string) => {
    for (const folder of folders.filter((f) => f.parent === parent && f.id !== moving)) {
      const here = path ? `${path} / ${folder.name}` : folder.name;
      found.push({ id: folder.id, path: here });
      walk(folder.id, here);
    }
  };
  walk(null, "");
  return found;
}
