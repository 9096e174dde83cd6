/** Composing a rollout: the sentence, the editor of the slot that is open, and the consequences. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Navigate, useNavigate } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body, type Schemas } from "@/api/client";
import { handedOver } from "@/api/handed-over";
import {
  groups as groupsQuery,
  images as imagesQuery,
  plans as plansQuery,
  rollout as rolloutQuery,
} from "@/api/queries";
import { newRolloutRoute } from "@/app/router";
import { Button, Confirm, Problem } from "@/parts/controls";
import { audienceWords } from "@/parts/named-devices";
import { Sentence } from "@/parts/sentence";
import { useDebounced } from "@/parts/use-debounced";
import { Consequences } from "./consequences";
import { again, type Draft, draftOf, EMPTY, missing, sentenceOf, startingWith, targetWords } from "./draft";
import { RingTable } from "./ring-table";
import { SlotEditor } from "./slot-editor";

const KEPT = "brisk-herald-rollout-draft";

/** A new rollout. It is kept in the browser until the server can keep it, and then goes on where it is: what is open
 * stays open. It may start from a group, an image, kept rings, or an earlier rollout, which the address names. */
export function NewRollout() {
  const { draft, ...from } = newRolloutRoute.useSearch();
  const [held, setHeld] = useState({ draft, number: 0 });
  // another draft than before, or a new one after it, begins anew
  if (held.draft !== draft) setHeld({ draft, number: held.draft === undefined ? held.number : held.number + 1 });
  const kept = useQuery({ ...rolloutQuery(draft ?? 0), enabled: draft !== undefined });
  const like = useQuery({ ...rolloutQuery(from.like ?? 0), enabled: from.like !== undefined });
  const plans = useQuery({ ...plansQuery, enabled: from.plan !== undefined });
  const error = kept.error ?? like.error ?? plans.error;
  if (error) return <Problem error={error} />;
  const rollout = draft === undefined ? null : kept.data;
  if (rollout && rollout.state !== "draft")
    return <Navigate to="/rollouts/$id" params={{ id: String(rollout.id) }} search={{}} replace />;
  const start = rollout ? draftOf(rollout) : startOf(from, like.data, plans.data);
  if (rollout === undefined || !start) return null;
  return <Compose key={`${held.number} ${JSON.stringify(from)}`} rollout={rollout} start={start} />;
}

/** What a new rollout starts from; null until that is known. */
function startOf(
  from: { group?: number; devices?: string; image?: number; plan?: number; like?: number },
  like: Schemas["RolloutDetail"] | undefined,
  plans: Schemas["PlanRow"][] | undefined,
): Draft | null {
  if (from.like !== undefined) return like ? again(like) : null;
  if (from.plan !== undefined) {
    const rings = plans?.flatMap((p) => p.versions).find((v) => v.id === from.plan);
    return rings ? startingWith({ group: from.group, image: from.image, rings }) : null;
  }
  if (from.group !== undefined || from.image !== undefined || from.devices !== undefined)
    return startingWith({ ...from, devices: handedOver(from.devices) });
  const kept = localStorage.getItem(KEPT);
  return kept ? { ...EMPTY, ...JSON.parse(kept) } : EMPTY;
}

export function ComposeDraft({ rollout }: { rollout: Schemas["RolloutDetail"] }) {
  return <Compose rollout={rollout} start={draftOf(rollout)} />;
}

function Compose({ rollout, start }: { rollout: Schemas["RolloutDetail"] | null; start: Draft }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const [draft, setDraft] = useState(start);
  const [open, setOpen] = useState<string>(rollout ? "" : "change");
  const settled = useDebounced(draft, 350);
  const keptAs = useRef(rollout ? JSON.stringify(start) : "");
  /** the draft that the server keeps; known here before the address says so */
  const id = useRef(rollout?.id ?? null);
  const { data: images } = useQuery(imagesQuery);
  const { data: groups } = useQuery(groupsQuery);
  const putsBack = rollout?.puts_back_id ?? null;
  const gaps = missing(draft, putsBack !== null);

  const keep = useMutation({
    mutationFn: (whole: Draft) =>
      id.current
        ? body(api.PUT("/api/v1/rollouts/{rollout_id}", { params: { path: { rollout_id: id.current } }, body: whole }))
        : body(api.POST("/api/v1/rollouts", { body: whole })),
    onSuccess: (saved) => {
      client.setQueryData(rolloutQuery(saved.id).queryKey, saved);
      client.invalidateQueries({ queryKey: ["rollout", "list"] });
      client.invalidateQueries({ queryKey: ["preflight", saved.id] });
      client.invalidateQueries({ queryKey: ["forecast", saved.id] });
      if (!id.current) {
        id.current = saved.id;
        localStorage.removeItem(KEPT);
        navigate({ to: "/rollouts/new", search: (from) => ({ ...from, draft: saved.id }), replace: true });
      }
    },
  });
  const { mutate, isPending } = keep;
  useEffect(() => {
    const text = JSON.stringify(settled);
    if (!id.current && isPending) return; // it is being made: what changed meanwhile is kept once it is there
    if (!id.current && settled !== EMPTY) localStorage.setItem(KEPT, text);
    if (missing(settled, putsBack !== null).length || text === keptAs.current) return;
    keptAs.current = text;
    mutate(settled);
  }, [settled, putsBack, isPending, mutate]);

  const discard = useMutation({
    mutationFn: async () => {
      localStorage.removeItem(KEPT);
      if (rollout) await api.DELETE("/api/v1/rollouts/{rollout_id}", { params: { path: { rollout_id: rollout.id } } });
    },
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ["rollout"] });
      toast("Draft thrown away");
      navigate({ to: "/rollouts" });
    },
  });
  const named = (ids: number[]) => ids.map((id) => groups?.find((g) => g.id === id)?.name ?? `group ${id}`);
  const sentence = sentenceOf(draft, {
    target: targetWords(draft.changes, (id) => images?.find((i) => i.id === id)?.name ?? `image ${id}`),
    putsBack,
    include: audienceWords(named(draft.include), draft.include_devices ?? []),
    exclude: named(draft.exclude ?? []),
  });
  const refused = keep.error instanceof ApiError ? keep.error : null;
  const problems = refused?.errors.filter((e) => e.line) ?? [];
  const isKept = rollout !== null && JSON.stringify(draft) === keptAs.current && !keep.isPending && !refused;
  return (
    <div className="grid h-full grid-cols-[1fr_330px] max-lg:grid-cols-1">
      <div className="overflow-auto px-5 py-4">
        <div className="mb-1 flex items-center justify-between text-soft">
          <p aria-live="polite">
            {rollout
              ? `Rollout ${rollout.id}, draft${keep.isPending ? ", being kept" : refused ? ", last change not kept" : " kept"}`
              : "New rollout"}
          </p>
          <Confirm
            trigger={<Button kind="quiet">Discard…</Button>}
            title="Discard this draft?"
            action="Discard the draft"
            danger
            onConfirm={() => discard.mutate()}
          >
            Nothing was sent to any device, so no device is changed by this.
          </Confirm>
        </div>
        <Sentence
          className="text-[1.75rem]"
          parts={sentence}
          open={open}
          onSlot={(s) => setOpen(open === s ? "" : s)}
        />
        {rollout?.reason && <p className="mt-2 text-brick">The last launch came to nothing: {rollout.reason}</p>}
        <div className="mt-4 space-y-4">
          {open && open !== "rings" && (
            <SlotEditor
              slot={open}
              draft={draft}
              rollout={rollout}
              onChange={setDraft}
              images={images ?? []}
              groups={groups ?? []}
              problems={problems}
              onClose={() => setOpen("")}
            />
          )}
          <Problem error={(problems.length && open === "audience" ? null : keep.error) ?? discard.error} />
          <RingTable
            draft={draft}
            onChange={setDraft}
            groups={groups ?? []}
            rollout={rollout}
            editing={open === "rings"}
            onEdit={() => setOpen(open === "rings" ? "" : "rings")}
          />
        </div>
      </div>
      <Consequences rollout={rollout} gaps={gaps} isKept={isKept} />
    </div>
  );
}
