/** A notification rule, made or changed: of what, whom, and when. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { people as peopleQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { ruleWords } from "./rule-words";

type Rule = Schemas["NotificationRuleRow"];
type Wanted = Required<Schemas["NotificationRuleBodyRequest"]>;

function asWanted(rule: Rule | null): Wanted {
  if (!rule)
    return {
      name: "",
      kinds: [],
      at_least: 0,
      after_minutes: 0,
      is_urgent: false,
      tells_over: true,
      next_after_minutes: null,
      people: [],
      channels: [],
      is_on: true,
    };
  const { id: _, people, channels, ...rest } = rule;
  return { ...rest, people: people.map((p) => p.id), channels: channels.map((c) => c.id) };
}

const check = "accent-[var(--verdigris)]";
const toggled = <T,>(list: T[], one: T, yes: boolean) => (yes ? [...list, one] : list.filter((x) => x !== one));

export function RuleForm({
  rule,
  all,
  onClose,
}: {
  rule: Rule | null;
  all: Schemas["NotificationRules"];
  onClose: () => void;
}) {
  const client = useQueryClient();
  const [wanted, setWanted] = useState(() => asWanted(rule));
  const set = (change: Partial<Wanted>) => setWanted((was) => ({ ...was, ...change }));
  const { data: everybody } = useQuery(peopleQuery);
  const people = everybody?.people.filter((p) => p.is_active) ?? [];
  const nameOf = (id: number) => people.find((p) => p.id === id)?.name ?? "…";
  const save = useMutation({
    mutationFn: () =>
      rule
        ? body(api.PUT("/api/v1/notifications/{rule_id}", { params: { path: { rule_id: rule.id } }, body: wanted }))
        : body(api.POST("/api/v1/notifications", { body: wanted })),
    onSuccess: () => {
      changed(client, "notifications");
      onClose();
    },
  });
  const shown = {
    ...wanted,
    id: 0,
    people: wanted.people.map((id) => ({ id, name: nameOf(id) })),
    channels: all.channels.filter((c) => wanted.channels.includes(c.id)),
  };
  const number = (key: "at_least" | "after_minutes", label: string) => (
    <Labelled label={label}>
      <input
        className="field w-28"
        inputMode="numeric"
        value={wanted[key]}
        onChange={(e) => set({ [key]: Number(e.target.value.replace(/\D/g, "")) })}
      />
    </Labelled>
  );
  return (
    <Modal open onClose={onClose} title={rule ? `Change “${rule.name}”` : "New rule"} wide>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <p className="rounded-sm bg-side px-3 py-2" aria-live="polite">
          {ruleWords(shown, all.kinds)}
        </p>
        <div className="flex flex-wrap items-end gap-4">
          <Labelled label="Name">
            <input
              className="field w-60"
              required
              maxLength={80}
              placeholder="On call"
              value={wanted.name}
              onChange={(e) => set({ name: e.target.value })}
            />
          </Labelled>
          {number("at_least", "Devices, at least")}
          {number("after_minutes", "Open for, min")}
        </div>
        <fieldset>
          <legend className="mb-1 font-semibold text-soft">Of what; of everything where nothing is ticked</legend>
          <div className="grid grid-cols-3 gap-x-4 max-md:grid-cols-1">
            {all.kinds.map((k) => (
              <label key={k.kind} className="flex min-h-[26px] items-center gap-2">
                <input
                  type="checkbox"
                  className={check}
                  checked={wanted.kinds.includes(k.kind)}
                  onChange={(e) => set({ kinds: toggled(wanted.kinds, k.kind, e.target.checked) })}
                />
                {k.words}
              </label>
            ))}
          </div>
        </fieldset>
        <div className="grid grid-cols-2 gap-4 max-md:grid-cols-1">
          <fieldset>
            <legend className="mb-1 font-semibold text-soft">People, in the order in which they are ticked</legend>
            {people.map((p) => (
              <label key={p.id} className="flex min-h-[26px] items-center gap-2">
                <input
                  type="checkbox"
                  className={check}
                  checked={wanted.people.includes(p.id)}
                  onChange={(e) => {
                    const next = toggled(wanted.people, p.id, e.target.checked);
                    set({ people: next, ...(next.length < 2 && { next_after_minutes: null }) });
                  }}
                />
                {p.name}
                {wanted.people.length > 1 && wanted.people.includes(p.id) && (
                  <span className="text-soft">{wanted.people.indexOf(p.id) + 1}.</span>
                )}
              </label>
            ))}
          </fieldset>
          <fieldset>
            <legend className="mb-1 font-semibold text-soft">Channels</legend>
            {all.channels.map((c) => (
              <label key={c.id} className="flex min-h-[26px] items-center gap-2">
                <input
                  type="checkbox"
                  className={check}
                  checked={wanted.channels.includes(c.id)}
                  onChange={(e) => set({ channels: toggled(wanted.channels, c.id, e.target.checked) })}
                />
                {c.name}
              </label>
            ))}
            {all.channels.length === 0 && <span className="text-soft">None yet.</span>}
          </fieldset>
        </div>
        <div className="flex flex-col gap-1">
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className={check}
              checked={wanted.is_urgent}
              onChange={(e) => set({ is_urgent: e.target.checked })}
            />
            Urgent: at once, also in quiet hours, and by mail whatever somebody wishes
          </label>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className={check}
              disabled={wanted.people.length < 2}
              checked={wanted.next_after_minutes !== null}
              onChange={(e) => set({ next_after_minutes: e.target.checked ? 15 : null })}
            />
            One person after the other, until somebody acknowledges it
            {wanted.next_after_minutes !== null && (
              <>
                , every
                <input
                  className="field w-16"
                  inputMode="numeric"
                  aria-label="Minutes until the next person is told"
                  value={wanted.next_after_minutes}
                  onChange={(e) => set({ next_after_minutes: Number(e.target.value.replace(/\D/g, "")) || 1 })}
                />
                min
              </>
            )}
          </label>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className={check}
              checked={wanted.tells_over}
              onChange={(e) => set({ tells_over: e.target.checked })}
            />
            Who was told is told when it is over
          </label>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className={check}
              checked={wanted.is_on}
              onChange={(e) => set({ is_on: e.target.checked })}
            />
            The rule is on
          </label>
        </div>
        <Problem error={save.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!wanted.name.trim() || wanted.people.length + wanted.channels.length === 0 || save.isPending}
          >
            {rule ? "Save" : "Make the rule"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
