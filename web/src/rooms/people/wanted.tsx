/** Of which roles more than a password is wanted, and what wanting it of others does, in numbers. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { people as peopleQuery } from "@/api/queries";
import { useMay } from "@/api/use-may";
import { counted, listed } from "@/lib/format";
import { Button, Modal, Problem } from "@/parts/controls";
import { ROLE_NAMES, type Role } from "./roles";

type People = Schemas["PeopleAnswer"];

export function Wanted({ all }: { all: People }) {
  const may = useMay("administer");
  const [open, setOpen] = useState(false);
  const roles = all.second_factor_wanted;
  return (
    <p className="mb-2">
      {roles.length === 0
        ? "A password alone is enough for everybody."
        : `More than a password is wanted of every ${listed(roles)}.`}{" "}
      {may && (
        <button type="button" className="slot" onClick={() => setOpen(true)}>
          Change…
        </button>
      )}
      {open && <Choose all={all} onClose={() => setOpen(false)} />}
    </p>
  );
}

function Choose({ all, onClose }: { all: People; onClose: () => void }) {
  const client = useQueryClient();
  const [roles, setRoles] = useState<Role[]>(all.second_factor_wanted);
  const want = useMutation({
    mutationFn: () => body(api.PUT("/api/v1/people/second-factor-wanted", { body: { roles } })),
    onSuccess: (now) => {
      client.setQueryData(peopleQuery.queryKey, now);
      toast(roles.length ? `More than a password is wanted of every ${listed(roles)}.` : "A password alone is enough.");
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title="Of whom more than a password is wanted">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          want.mutate();
        }}
      >
        <p>A passkey, or a code of an app besides the password. Tokens for scripts go on as they are.</p>
        <fieldset>
          <legend className="sr-only">Roles</legend>
          {ROLE_NAMES.map((role) => (
            <label key={role} className="flex min-h-[28px] items-center gap-2">
              <input
                type="checkbox"
                className="accent-[var(--verdigris)]"
                checked={roles.includes(role)}
                onChange={(e) => setRoles(e.target.checked ? [...roles, role] : roles.filter((r) => r !== role))}
              />
              {role}
            </label>
          ))}
        </fieldset>
        <p aria-live="polite">{consequence(all.people, roles)}</p>
        <Problem error={want.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={want.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}

/** What wanting more than a password of these roles does to whom, in a sentence or two. */
export function consequence(people: Schemas["PersonRow"][], roles: Role[]): string {
  if (roles.length === 0) return "A password alone is enough for everybody.";
  const theirs = people.filter((p) => p.is_active && roles.includes(p.role));
  const none = theirs.filter((p) => !p.has_second_factor && p.passkeys === 0);
  const sessions = theirs.reduce((n, p) => n + p.weak_sessions, 0);
  const first =
    none.length === 0
      ? `${counted(theirs.length, "person is", "people are")} of these roles, and each has one.`
      : `${none.length} of ${counted(theirs.length, "person", "people")} ${none.length === 1 ? "has" : "have"} none, and ${
          none.length === 1 ? "sets" : "set"
        } one up when they sign in next.`;
  const ends = `${counted(sessions, "session that", "sessions that")} began by a password alone ${sessions === 1 ? "ends" : "end"} now.`;
  return sessions ? `${first} ${ends}` : first;
}
