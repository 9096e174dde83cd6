/** Composing a command, new or changed: the sentence, its slots, and the next firings per zone before it is saved. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { getRouteApi, Link, useNavigate } from "@tanstack/react-router";
import { DateTime } from "luxon";
import { useState } from "react";
import { toast } from "sonner";
import { ApiError, api, body, type Schemas } from "@/api/client";
import { handedOver } from "@/api/handed-over";
import { templates } from "@/api/queries";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { usePageTitle } from "@/lib/title";
import { useDebounced } from "@/lib/use-debounced";
import { AboutFields } from "@/parts/about-fields";
import { Button, Problem } from "@/parts/controls";
import { harmOf } from "@/parts/harm";
import { DraftSentence } from "@/parts/sentence";
import { isCount, TypedCount } from "@/parts/typed-count";
import { Loaded, WholePage } from "@/parts/views";
import { ChangeEffects } from "./change-effects";
import { type Draft, draftOf, isForSomebody, START } from "./draft";
import { FiringsPreview } from "./firings-preview";
import { changePreview, draftSentence, preview as previewQuery, schedule as scheduleQuery } from "./queries";
import { SlotEditor } from "./slots";

const newCommandRoute = getRouteApi("/commands/new");
const editCommandRoute = getRouteApi("/commands/$id/edit");

export function NewCommand() {
  const { devices, group, template } = newCommandRoute.useSearch();
  usePageTitle("New command");
  const [first] = useState<Draft>(() => ({
    ...START,
    template: template ?? START.template,
    include: group ? [group] : [],
    include_devices: handedOver(devices),
  }));
  return <Composer first={first} slot={isForSomebody(first) ? "template" : "audience"} />;
}

export function EditCommand() {
  const { id } = editCommandRoute.useParams();
  usePageTitle(`Change command ${id}`);
  // read once: what somebody else changes meanwhile is told as it is saved, and overwrites nothing that was typed
  const asked = useQuery({ ...scheduleQuery(Number(id)), refetchInterval: false, refetchOnMount: "always" });
  return (
    <WholePage of={asked} what={`Command ${id}`}>
      {(data) => <EditLoaded key={data.id} read={data} />}
    </WholePage>
  );
}

function EditLoaded({ read }: { read: Schemas["ScheduleDetail"] }) {
  const [before] = useState(read);
  return <Composer first={draftOf(before, before.include_devices)} slot="when" changes={before} />;
}

function Composer({ first, slot, changes }: { first: Draft; slot: string; changes?: Schemas["ScheduleDetail"] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { now, zone } = useClock();
  const [draft, setDraft] = useState(first);
  const [open, setOpen] = useState(slot);
  const [typed, setTyped] = useState("");
  const settled = useDebounced(draft, 250);
  const known = useQuery(templates);
  const template = known.data?.find((t) => t.key === draft.template);
  const isAsked = isForSomebody(settled);
  const fresh = useQuery(previewQuery(settled, isAsked && !changes));
  const change = useQuery(changePreview(changes?.id ?? 0, settled, isAsked && changes !== undefined));
  const preview = changes ? { ...change, data: change.data?.preview } : fresh;
  const save = useMutation({
    mutationFn: () =>
      changes
        ? body(
            api.PUT("/api/v1/schedules/{schedule_id}", {
              params: { path: { schedule_id: changes.id } },
              body: { ...draft, revision: changes.revision },
            }),
          )
        : body(api.POST("/api/v1/schedules", { body: { ...draft, devices: Number(typed) } })),
    onSuccess: (saved) => {
      changed(client, "schedule");
      toast(saved.state === "proposed" ? "Proposed: a second person must approve it" : "Command saved");
      navigate({ to: "/commands/$id", params: { id: String(saved.id) }, search: {} });
    },
  });
  const sentence = useQuery(draftSentence(settled));
  const isNow = draft.when === "now";
  const harm = template?.harm ?? "disruptive";
  const isSettled = settled === draft && preview.data !== undefined && !preview.isPlaceholderData;
  const reached = preview.data?.reached_now ?? 0;
  const needsReason = harm === "destructive" && !(draft.reason ?? "").trim();
  const asksForCount = !changes && ((isNow && harm !== "gentle") || harm === "destructive") && reached > 0;
  const ready =
    isForSomebody(draft) &&
    isSettled &&
    !preview.error &&
    !needsReason &&
    (!isNow || reached > 0) &&
    (!asksForCount || isCount(typed, reached));
  // what does not fit yet is said as such: nothing failed, and trying again would not help
  const refused = preview.error instanceof ApiError && preview.error.status === 422 ? preview.error.detail : "";
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_380px] max-xl:grid-cols-[minmax(0,1fr)_290px] max-md:block max-md:overflow-auto">
      <div className="overflow-auto px-5 py-4">
        <p className="mb-1 text-soft">
          {changes ? (
            <>
              Changing{" "}
              <Link to="/commands/$id" params={{ id: String(changes.id) }} search={{}} className="slot">
                command {changes.id}
              </Link>
              , revision {changes.revision}
            </>
          ) : (
            "New command"
          )}{" "}
          {template && (
            <>
              ·{" "}
              <span className={harmOf(harm).tone}>
                <span aria-hidden>{harmOf(harm).mark}</span> {harm}
              </span>
              : {template.note || `about ${counted(template.minutes, "minute")} a device`}
            </>
          )}
        </p>
        <DraftSentence
          of={sentence}
          isOlder={draft !== settled}
          what="The sentence of this command"
          open={open}
          onSlot={(s) => setOpen(open === s ? "" : s)}
        />
        {open && (
          <SlotEditor
            slot={open}
            draft={draft}
            onChange={setDraft}
            onClose={() => setOpen("")}
            template={template}
            error={preview.error}
            today={DateTime.fromJSDate(now, { zone }).toFormat("yyyy-MM-dd")}
            mayRunNow={!changes}
          />
        )}
        <div className="mt-5">
          <AboutFields
            about={draft}
            onChange={(change) => setDraft({ ...draft, ...change })}
            needsReason={harm === "destructive"}
          />
        </div>
      </div>
      <aside
        className="flex min-h-0 flex-col border-rule border-l bg-side max-md:border-t max-md:border-l-0"
        aria-label="What it will do"
      >
        <div className="min-h-0 flex-1 overflow-auto px-4 py-4">
          <h2 className="text-[1.1rem]">{isNow ? "What it will do" : "Next firings"}</h2>
          {!isForSomebody(draft) && (
            <p className="text-soft">Choose an audience first; no group and no device is nobody.</p>
          )}
          {changes && change.data && !refused && isForSomebody(draft) && <ChangeEffects change={change.data} />}
          {isForSomebody(draft) && refused && (
            <p role="alert">
              <span aria-hidden className="text-saffron">
                ◆
              </span>{" "}
              {refused}
            </p>
          )}
          {isForSomebody(draft) && !refused && (
            <Loaded
              of={{ ...preview, isPlaceholderData: preview.isPlaceholderData || settled !== draft }}
              what="The next firings"
              rows={6}
            >
              {(data) => (
                <FiringsPreview
                  data={data}
                  draft={draft}
                  onExclude={(time) => setDraft({ ...draft, excluded: [...draft.excluded, time].sort() })}
                />
              )}
            </Loaded>
          )}
        </div>
        <div className="border-rule border-t px-4 py-3">
          {preview.data?.needs_second && (
            <p className="mb-2 text-brick">A second person must approve it before it does anything.</p>
          )}
          {needsReason && <p className="mb-2 text-brick">A destructive command needs a reason.</p>}
          {asksForCount && (
            <div className="mb-2">
              <span className="text-soft">
                It would run on {counted(reached, "device")} {isNow ? "now" : "if it fired now"}. Type the number of
                devices to {preview.data?.needs_second ? "propose" : isNow ? "run" : "save"} it.
              </span>
              <TypedCount className="mt-1 block" reached={reached} value={typed} onChange={setTyped} />
            </div>
          )}
          <Button kind="main" disabled={!ready || save.isPending} onClick={() => save.mutate()}>
            {changes
              ? "Save the change"
              : preview.data?.needs_second
                ? "Propose it"
                : !isNow
                  ? "Save the schedule"
                  : isSettled
                    ? `${template?.phrase ?? "Restart"} ${counted(reached, "device")} now`
                    : "Run it now"}
          </Button>
          {preview.data && !isNow && isSettled && (
            <p className="mt-2 text-soft">{firstWords(preview.data, zone, now)}</p>
          )}
          <Problem error={save.error} />
        </div>
      </aside>
    </div>
  );
}

function firstWords(data: Schemas["SchedulePreview"], zone: string, now: Date): string {
  const first = data.zones.find((z) => z.firings[0]);
  return first?.firings[0] ? `It fires first ${instant(first.firings[0].at, zone, now)}, your clock.` : "";
}
