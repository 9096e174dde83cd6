/** The tree of folders and groups: pressed to open, dragged or moved by keys, its folders made and renamed in place. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import clsx from "clsx";
import { DropdownMenu } from "radix-ui";
import { type DragEvent, type KeyboardEvent, type ReactNode, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { count } from "@/lib/format";
import { Button } from "@/parts/controls";
import { branches } from "./branches";
import { FolderName, MoveDialog } from "./folder-dialogs";
import { type Moving, useMoves } from "./use-moves";

type Naming = { kind: "new"; parent: number | null } | { kind: "rename"; folder: Schemas["FolderRow"] };

export function Tree({ folders, groups }: { folders: Schemas["FolderRow"][]; groups: Schemas["GroupRow"][] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [closed, setClosed] = useState<ReadonlySet<number>>(new Set());
  const [moving, setMoving] = useState<Moving | null>(null);
  const [naming, setNaming] = useState<Naming | null>(null);
  const [dragged, setDragged] = useState<Moving | null>(null);
  const move = useMoves();
  const remove = useMutation({
    mutationFn: (id: number) =>
      body(api.DELETE("/api/v1/folders/{folder_id}", { params: { path: { folder_id: id } } })),
    onError: (error) => toast.error(error.message),
    onSettled: () => changed(client, "group"),
  });
  const toggle = (id: number) =>
    setClosed((old) => new Set(old.has(id) ? [...old].filter((x) => x !== id) : [...old, id]));
  const dropInto = (to: number | null) => {
    if (dragged && dragged.from !== to && !(dragged.kind === "folder" && dragged.id === to))
      move.mutate({ thing: dragged, to });
    setDragged(null);
  };
  const rowOf = (thing: Moving, depth: number, into: number | null) => ({
    thing,
    depth,
    onDrag: setDragged,
    onDrop: dragged ? () => dropInto(into) : undefined,
    onMove: () => setMoving(thing),
  });
  return (
    <>
      <nav aria-label="Groups by folder" className="min-h-0 flex-1 overflow-auto pb-2">
        <ul>
          {branches(folders, groups, closed).map((b) =>
            b.kind === "folder" ? (
              <Row
                key={`f${b.folder.id}`}
                {...rowOf(
                  { kind: "folder", id: b.folder.id, name: b.folder.name, from: b.folder.parent },
                  b.depth,
                  b.folder.id,
                )}
                actions={[
                  [
                    "New group in it…",
                    () => navigate({ to: "/groups/$id", params: { id: "new" }, search: { folder: b.folder.id } }),
                  ],
                  ["New folder in it…", () => setNaming({ kind: "new", parent: b.folder.id })],
                  ["Rename…", () => setNaming({ kind: "rename", folder: b.folder })],
                  ["Delete, if empty", () => remove.mutate(b.folder.id)],
                ]}
              >
                <button
                  type="button"
                  aria-expanded={b.open}
                  onClick={() => toggle(b.folder.id)}
                  className="flex min-h-[28px] min-w-0 flex-1 items-center gap-1.5 text-left font-semibold"
                >
                  <span aria-hidden className="w-3 text-faint">
                    {b.open ? "▾" : "▸"}
                  </span>
                  <span className="min-w-0 break-words leading-snug">{b.folder.name}</span>
                  <span className="ml-auto whitespace-nowrap pl-1 font-normal text-soft" title="distinct devices">
                    {count(b.folder.device_count)}
                  </span>
                </button>
              </Row>
            ) : (
              <Row
                key={`g${b.group.id}`}
                {...rowOf(
                  { kind: "group", id: b.group.id, name: b.group.name, from: b.group.folder_id },
                  b.depth,
                  b.group.folder_id,
                )}
                actions={[]}
              >
                <GroupLeaf group={b.group} />
              </Row>
            ),
          )}
          {dragged && (
            <li
              className="mx-3 mt-2 rounded-sm border border-rule border-dashed px-2 py-1 text-soft"
              onDragOver={(e) => e.preventDefault()}
              onDrop={() => dropInto(null)}
            >
              Out of all folders
            </li>
          )}
        </ul>
        <Button
          needs="operate-all"
          kind="quiet"
          className="mx-4 mt-2"
          onClick={() => setNaming({ kind: "new", parent: null })}
        >
          New folder
        </Button>
      </nav>
      {moving && (
        <MoveDialog
          thing={moving}
          folders={folders}
          onClose={() => setMoving(null)}
          onMove={(to) => move.mutate({ thing: moving, to })}
        />
      )}
      {naming && (
        <FolderName
          known={naming.kind === "rename" ? naming.folder : null}
          parent={naming.kind === "new" ? naming.parent : null}
          onClose={() => setNaming(null)}
        />
      )}
    </>
  );
}

function Row({
  thing,
  depth,
  actions,
  onDrag,
  onDrop,
  onMove,
  children,
}: {
  thing: Moving;
  depth: number;
  actions: [string, () => void][];
  onDrag: (thing: Moving | null) => void;
  onDrop?: () => void;
  onMove: () => void;
  children: ReactNode;
}) {
  const mayOperate = useMay("operate-all");
  const [over, setOver] = useState(false);
  const allow = (event: DragEvent) => {
    if (!onDrop) return;
    event.preventDefault();
    setOver(true);
  };
  const byKey = (event: KeyboardEvent) => {
    if (mayOperate && event.key === "m" && !event.ctrlKey && !event.metaKey && !event.altKey) onMove();
  };
  return (
    <li
      draggable={mayOperate}
      onDragStart={() => onDrag(thing)}
      onDragEnd={() => onDrag(null)}
      onDragOver={allow}
      onDragLeave={() => setOver(false)}
      onDrop={() => {
        setOver(false);
        onDrop?.();
      }}
      onKeyDown={byKey}
      className={clsx(
        "group/row flex items-center border-l-[3px] pr-1",
        over ? "border-verdigris bg-side" : "border-transparent",
      )}
      style={{ paddingLeft: 8 + depth * 14 }}
    >
      {children}
      {mayOperate && (
        <DropdownMenu.Root>
          <DropdownMenu.Trigger
            aria-label={`Actions for ${thing.name}`}
            className="w-6 shrink-0 text-center text-soft opacity-0 focus-visible:opacity-100 group-focus-within/row:opacity-100 group-hover/row:opacity-100"
          >
            ⋯
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" className="z-50 rounded-md border border-rule bg-card p-1 shadow-xl">
              {[["Move…  m", onMove] as [string, () => void], ...actions].map(([words, act]) => (
                <DropdownMenu.Item
                  key={words}
                  onSelect={act}
                  className="cursor-pointer rounded-sm px-3 py-1.5 outline-none data-[highlighted]:bg-side"
                >
                  {words}
                </DropdownMenu.Item>
              ))}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      )}
    </li>
  );
}

function GroupLeaf({ group }: { group: Schemas["GroupRow"] }) {
  return (
    <Link
      to="/groups/$id"
      params={{ id: String(group.id) }}
      search={{}}
      draggable={false}
      className="flex min-h-[28px] min-w-0 flex-1 items-center gap-1.5 rounded-sm pl-[18px] hover:bg-side"
      activeProps={{ className: "bg-card font-semibold shadow-[inset_3px_0_0_var(--saffron)]" }}
    >
      <span className="min-w-0 break-words leading-snug">{group.name}</span>
      {group.kind === "rule" && (
        <span className="text-faint" title="by rule">
          ≈
        </span>
      )}
      <span className={clsx("ml-auto whitespace-nowrap pl-1 text-soft", group.member_count === 0 && "text-brick")}>
        {count(group.member_count)}
      </span>
    </Link>
  );
}
