/** Composing a rollout: the sentence, the editor of the slot that is open, and the consequences. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Navigate, useNavigate } from "@tanstack/react-router";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body, type Schemas } from "@/api/client";
import { handedOver } from "@/api/handed-over";
import { groups as groupsQuery, images as imagesQuery, ringPlans as plansQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { usePageTitle } from "@/lib/title";
import { useDebounced } from "@/lib/use-debounced";
import { AboutFields } from "@/parts/about-fields";
import { Button, Confirm, Problem } from "@/parts/controls";
import { DraftSentence } from "@/parts/sentence";
import { Failed, Skeleton } from "@/parts/views";
import { Consequences } from "./consequences";
import { again, type Draft, draftOf, EMPTY, missing, saidOf, startingWith } from "./draft";
import { draftSentence, rollout as rolloutQuery } from "./queries";
import { RingTable } from "./ring-table";
import { SlotEditor } from "./slot-editor";
import { useUsualHours } from "./use-usual-hours";

const newRolloutRoute = getRouteApi("/rollouts/new");

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
  usePageTitle("New rollout");
  const failed = [kept, like, plans].find((q) => q.error && !q.data);
  if (failed)
    return (
      <Apart>
        <Failed what="What this rollout starts from" of={failed} />
      </Apart>
    );
  const rollout = draft === undefined ? null : kept.data;
  if (rollout && rollout.state !== "draft")
    return <Navigate to="/rollouts/$id" params={{ id: String(rollout.id) }} search={{}} replace />;
  const start = rollout ? draftOf(rollout) : startOf(from, like.data, plans.data);
  if (rollout === undefined || !start)
    return (
      <Apart>
        <Skeleton rows={8} />
      </Apart>
    );
  return (
    <Compose
      key={`${held.number} ${JSON.stringify(from)}`}
      rollout={rollout}
      start={start}
      isNew={draft === undefined && from.like === undefined}
    />
  );
}

function Apart({ children }: { children: ReactNode }) {
  return <div className="max-w-[70ch] px-5 py-4">{children}</div>;
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

function Compose({
  rollout,
  start,
  isNew = false,
}: {
  rollout: Schemas["RolloutDetail"] | null;
  start: Draft;
  isNew?: boolean;
}) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const [draft, setDraft] = useState(start);
  /** what it opened with, which nobody has chosen yet */
  const [first] = useState(() => JSON.stringify(start));
  const [open, setOpen] = useState<string>(rollout ? "" : "change");
  const settled = useDebounced(draft, 350);
  const usual = useUsualHours(draft, settled, setDraft, isNew);
  const keptAs = useRef(rollout ? JSON.stringify(start) : "");
  /** the draft that the server keeps; known here before the address says so */
  const id = useRef(rollout?.id ?? null);
  const images = useQuery(imagesQuery);
  const groups = useQuery(groupsQuery);
  const putsBack = rollout?.rolls_back_id ?? null;
  const gaps = missing(draft, putsBack !== null);

  const keep = useMutation({
    mutationFn: (whole: Draft) =>
      id.current
        ? body(api.PUT("/api/v1/rollouts/{rollout_id}", { params: { path: { rollout_id: id.current } }, body: whole }))
        : body(api.POST("/api/v1/rollouts", { body: whole })),
    onSuccess: (saved) => {
      client.setQueryData(rolloutQuery(saved.id).queryKey, saved);
      changed(client, "draft", saved.id);
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
    if (!id.current && text !== first) localStorage.setItem(KEPT, text);
    if (missing(settled, putsBack !== null).length || text === keptAs.current) return;
    keptAs.current = text;
    mutate(settled);
  }, [settled, first, putsBack, isPending, mutate]);

  const discard = useMutation({
    mutationFn: async () => {
      localStorage.removeItem(KEPT);
      if (rollout) await api.DELETE("/api/v1/rollouts/{rollout_id}", { params: { path: { rollout_id: rollout.id } } });
    },
    onSuccess: () => {
      changed(client, "rollout");
      toast("Draft discarded");
      navigate({ to: "/rollouts" });
    },
  });
  const sentence = useQuery(draftSentence(saidOf(settled, putsBack)));
  const close = () => {
    document.querySelector<HTMLElement>(`[data-slot="${open}"]`)?.focus(); // where one was, not at the top of the page
    setOpen("");
  };
  const refused = keep.error instanceof ApiError ? keep.error : null;
  const problems = refused?.errors.filter((e) => e.line) ?? [];
  const isKept = rollout !== null && JSON.stringify(draft) === keptAs.current && !keep.isPending && !refused;
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_330px] max-xl:grid-cols-[minmax(0,1fr)_290px] max-md:block max-md:overflow-auto">
      <div className="overflow-auto px-5 py-4">
        <div className="mb-1 flex items-center justify-between text-soft">
          <p aria-live="polite">
            {rollout
              ? `Rollout ${rollout.id}, draft ${keep.isPending ? "· saving…" : refused ? "· last change not saved" : "saved"}`
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
        <DraftSentence
          of={sentence}
          isOlder={draft !== settled}
          what="The sentence of this rollout"
          open={open}
          onSlot={(s) => setOpen(open === s ? "" : s)}
        />
        <a href="#launch" className="slot sr-only focus:not-sr-only">
          Go to the launch
        </a>
        {rollout?.reason && <p className="mt-2 text-brick">The last launch failed: {rollout.reason}</p>}
        <div className="mt-4 space-y-4">
          {open && open !== "rings" && (
            <SlotEditor
              slot={open}
              draft={draft}
              rollout={rollout}
              onChange={setDraft}
              images={images}
              groups={groups}
              problems={problems}
              usual={usual}
              onClose={close}
            />
          )}
          <Problem error={(problems.length && open === "audience" ? null : keep.error) ?? discard.error} />
          <AboutFields
            about={{ name: draft.name, reason: draft.purpose, ticket: draft.ticket }}
            onChange={({ reason = draft.purpose, ...others }) => setDraft({ ...draft, ...others, purpose: reason })}
          />
          <RingTable
            draft={draft}
            onChange={setDraft}
            groups={groups}
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
