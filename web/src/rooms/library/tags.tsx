/** Tags: what each means, who carries it, which rules name it; rename, merge, delete. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { tags as tagsQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { count, counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { written } from "@/parts/clauses";
import { Button, Empty, Labelled, Modal, Problem } from "@/parts/controls";
import { Effects } from "@/parts/effects";
import { SLOTS, TagMark } from "@/parts/tag-list";
import { GroupLinks, Removal, Shelf } from "./shelf-table";

type Tag = Schemas["TagRow"];

export function Tags() {
  const mayOperate = useMay("operate-all");
  const asked = useQuery(tagsQuery);
  const [renaming, setRenaming] = useState<Tag | null>(null);
  return (
    <>
      {mayOperate && <NewTag />}
      <Shelf
        of={asked}
        what="The tags"
        heads={["Tag", "Meaning", "Devices", "Named by the rules of"]}
        empty={<Empty title="No tag yet">Create one here, or tag devices in Fleet.</Empty>}
      >
        {(tag) => <Row key={tag.slug} tag={tag} onRename={() => setRenaming(tag)} />}
      </Shelf>
      {renaming && asked.data && <Rename tag={renaming} all={asked.data} onClose={() => setRenaming(null)} />}
    </>
  );
}

function Row({ tag, onRename }: { tag: Tag; onRename: () => void }) {
  const client = useQueryClient();
  const [note, setNote] = useState(tag.note);
  const path = { slug: tag.slug };
  const again = () => changed(client, "fleet");
  const describe = useMutation({
    mutationFn: (colour: number) => body(api.PUT("/api/v1/tags/{slug}", { params: { path }, body: { note, colour } })),
    onSuccess: again,
  });
  const remove = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/tags/{slug}", { params: { path } })),
    onSuccess: () => {
      again();
      toast(`The tag ${tag.slug} was deleted`);
    },
  });
  return (
    <tr className="border-rule border-t align-top">
      <td className="whitespace-nowrap px-3 py-1.5">
        <ColourSlot tag={tag} onPick={(colour) => describe.mutate(colour)} />
        <span className="font-mono">{tag.slug}</span>
      </td>
      <td className="px-3 py-1">
        <input
          className="w-full rounded-sm border border-transparent bg-transparent px-1 py-0.5 hover:border-rule"
          aria-label={`What ${tag.slug} means`}
          placeholder="say what it means"
          value={note}
          maxLength={300}
          onChange={(e) => setNote(e.target.value)}
          onBlur={() => note !== tag.note && describe.mutate(tag.colour)}
        />
        <Problem error={describe.error ?? remove.error} />
      </td>
      <td className="px-3 py-1.5">
        <Link to="/fleet" search={{ rule: `tag = ${written(tag.slug)}` }} className="slot">
          {count(tag.devices)}
        </Link>
      </td>
      <td className="px-3 py-1.5">
        <GroupLinks groups={tag.groups} />
      </td>
      <td className="whitespace-nowrap px-3 py-1 text-right">
        <Button needs="operate-all" kind="quiet" onClick={onRename}>
          Rename or merge…
        </Button>
        <Removal
          word="Delete…"
          title={`Delete the tag ${tag.slug}?`}
          action={`Take it off ${counted(tag.devices, "device")}`}
          onConfirm={() => remove.mutate()}
        >
          {counted(tag.devices, "device has", "devices have")} it.{" "}
          {tag.groups.length > 0 && "Rules name it, so it cannot be deleted until they are changed."}
        </Removal>
      </td>
    </tr>
  );
}

/** A tag made before any device has it. */
function NewTag() {
  const client = useQueryClient();
  const [slug, setSlug] = useState("");
  const make = useMutation({
    mutationFn: () =>
      body(api.PUT("/api/v1/tags/{slug}", { params: { path: { slug: slug.trim() } }, body: { note: "", colour: 0 } })),
    onSuccess: () => {
      changed(client, "fleet");
      setSlug("");
    },
  });
  return (
    <form
      className="mb-2 flex items-baseline gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (slug.trim()) make.mutate();
      }}
    >
      <p className="mr-auto text-soft">Words for devices; a tag can be typed anywhere and is made by that.</p>
      <Problem error={make.error} />
      <input
        className="field"
        aria-label="New tag"
        placeholder="new-tag"
        value={slug}
        onChange={(e) => setSlug(e.target.value)}
      />
      <Button type="submit" disabled={!slug.trim() || make.isPending}>
        Make the tag
      </Button>
    </form>
  );
}

/** The mark of the tag; pressed, the eight to choose from. */
function ColourSlot({ tag, onPick }: { tag: Tag; onPick: (slot: number) => void }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`Colour of ${tag.slug}`}
        className="mr-2 inline-block size-[14px] rounded-[3px] border border-rule align-middle"
        style={tag.colour ? { background: `var(--tag-${tag.colour})` } : undefined}
      />
      <DropdownMenu.Portal>
        <DropdownMenu.Content className="z-50 flex gap-1 rounded-md border border-rule bg-card p-2 shadow-xl">
          {Array.from({ length: SLOTS }, (_, slot) => (
            <DropdownMenu.Item
              // biome-ignore lint/suspicious/noArrayIndexKey: the slots are their numbers
              key={slot}
              onSelect={() => onPick(slot)}
              aria-label={slot ? `colour ${slot}` : "no colour"}
              className="flex size-[24px] cursor-pointer items-center justify-center rounded-sm border border-rule outline-none data-[highlighted]:border-ink"
            >
              {slot ? <TagMark slot={slot} /> : "–"}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Rename({ tag, all, onClose }: { tag: Tag; all: Tag[]; onClose: () => void }) {
  const client = useQueryClient();
  const [to, setTo] = useState("");
  const settled = useDebounced(to.trim(), 250);
  const path = { slug: tag.slug };
  const preview = useQuery({
    queryKey: ["preview", "tag", tag.slug, settled],
    queryFn: () => body(api.POST("/api/v1/tags/{slug}/rename/preview", { params: { path }, body: { to: settled } })),
    enabled: settled !== "",
    retry: false,
  });
  const rename = useMutation({
    mutationFn: () => body(api.POST("/api/v1/tags/{slug}/rename", { params: { path }, body: { to: settled } })),
    onSuccess: (done) => {
      client.invalidateQueries();
      toast(`${tag.slug} is ${settled} now: ${counted(done.devices, "device")}, ${counted(done.rules.length, "rule")}`);
      onClose();
    },
  });
  const told = settled && settled === to.trim() ? preview.data : undefined;
  return (
    <Modal open onClose={onClose} title={`Rename or merge the tag ${tag.slug}`}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (told) rename.mutate();
        }}
      >
        <Labelled label="Its new name; a tag of that name takes it in">
          <input className="field" list="all-tags" value={to} onChange={(e) => setTo(e.target.value)} />
        </Labelled>
        <datalist id="all-tags">
          {all
            .filter((t) => t.slug !== tag.slug)
            .map((t) => (
              <option key={t.slug} value={t.slug}>{`${t.devices} devices`}</option>
            ))}
        </datalist>
        <Problem error={settled ? preview.error : null} />
        {told && (
          <div aria-live="polite" className="space-y-1">
            <p>
              {told.merges ? "The two become one. " : ""}
              <strong>{counted(told.devices, "device")}</strong> and{" "}
              <strong>{counted(told.rules.length, "rule")}</strong> change
              {told.rules.length > 0 && `: ${told.rules.map((r) => r.name).join(", ")}`}.
            </p>
            <Effects groups={told.groups} />
          </div>
        )}
        <Problem error={rename.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!told || rename.isPending}>
            {told?.merges ? "Merge" : "Rename"}
            {told && ` on ${counted(told.devices, "device")}`}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
