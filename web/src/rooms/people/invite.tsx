/** Inviting people: addresses and a role; then each one's link, which is shown this once. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useClock } from "@/lib/clock";
import { counted, instant } from "@/lib/format";
import { wordsIn } from "@/lib/words";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { type Limits, LimitsField } from "./limits";
import { ROLE_NAMES, ROLES, type Role } from "./roles";

export function Invite({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [role, setRole] = useState<Role>("operator");
  const [chosen, setLimits] = useState<Limits>(null);
  const limits = role === "administrator" ? null : chosen;
  const emails = wordsIn(text);
  const invite = useMutation({
    mutationFn: () => body(api.POST("/api/v1/people/invitations", { body: { emails, role, limits } })),
    onSuccess: () => changed(client, "people"),
  });
  if (invite.data) return <Links made={invite.data} onClose={onClose} />;
  return (
    <Modal open onClose={onClose} title="Invite people">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          invite.mutate();
        }}
      >
        <Labelled label="E-mail addresses" hint="One or many, parted by commas or lines.">
          <textarea className="field" rows={3} value={text} onChange={(e) => setText(e.target.value)} />
        </Labelled>
        <fieldset>
          <legend className="mb-1 font-semibold text-soft">Role</legend>
          {ROLE_NAMES.map((r) => (
            <label key={r} className="flex min-h-[28px] items-center gap-2">
              <input
                type="radio"
                name="role"
                className="accent-[var(--verdigris)]"
                checked={role === r}
                onChange={() => setRole(r)}
              />
              <strong className="w-28">{r}</strong> <span className="text-soft">{ROLES[r]}</span>
            </label>
          ))}
        </fieldset>
        {role !== "administrator" && <LimitsField value={limits} onChange={setLimits} />}
        <p className="text-soft">
          Who acts and who approves are different people: nobody approves what they asked for themselves.
        </p>
        <Problem error={invite.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={emails.length === 0 || invite.isPending}>
            {emails.length > 1 ? `Invite ${counted(emails.length, "person", "people")}` : "Invite"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

export function Links({ made, onClose }: { made: Schemas["NewInvitation"][]; onClose: () => void }) {
  const { now, zone } = useClock();
  const [copied, setCopied] = useState("");
  const link = (i: Schemas["NewInvitation"]) => `${location.origin}${i.path}`;
  return (
    <Modal open onClose={onClose} title={`${counted(made.length, "link")} made`} wide>
      <p>
        {made.every((i) => i.mailed) ? "Each person was mailed their link" : "Send each person their link"}; it{" "}
        {made.some((i) => i.person !== null) ? "opens the account anew, once," : "makes one account"} and holds until{" "}
        {instant(made[0]?.expires_at ?? "", zone, now)}. The links are not shown again.
      </p>
      <ul className="my-3 space-y-2">
        {made.map((i) => (
          <li key={i.id} className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <span className="w-80 truncate">
              <strong>{i.email}</strong>, {i.role}
              {i.is_limited && ", limited"}
              {i.mailed && <span className="text-verdigris">, mailed</span>}
            </span>
            <input
              className="field min-w-0 flex-1 font-mono text-xs"
              readOnly
              aria-label={`Link for ${i.email}`}
              value={link(i)}
              onFocus={(e) => e.target.select()}
            />
            <Button
              onClick={() => {
                navigator.clipboard.writeText(link(i)).then(
                  () => setCopied(i.email),
                  () => setCopied(""),
                );
              }}
            >
              {copied === i.email ? "Copied" : "Copy"}
            </Button>
          </li>
        ))}
      </ul>
      <div className="flex justify-end">
        <Button kind="main" onClick={onClose}>
          I have them
        </Button>
      </div>
    </Modal>
  );
}
