/** One's passkeys: what there is, adding one, and removing one; and showing who one is, before either. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { session } from "@/api/queries";
import { useClock } from "@/lib/clock";
import { instant, relative } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";
import { askPasskey, makePasskey, whyNone } from "./passkey-calls";
import { PasswordField } from "./password-field";
import { ownPasskeys } from "./queries";

type Passkey = Schemas["PasskeyRow"];

export function Passkeys() {
  const asked = useQuery(ownPasskeys);
  const [open, setOpen] = useState<Passkey | "new" | null>(null);
  const none = whyNone();
  return (
    <Loaded of={asked} what="Your passkeys" rows={2}>
      {({ passkeys, has_password }) => (
        <>
          {passkeys.length === 0 && (
            <p className="text-soft">
              None. A passkey on your phone, your computer or a security key signs you in by your finger, face or PIN,
              with no password to type and none to steal.
            </p>
          )}
          <ul>
            {passkeys.map((p) => (
              <OnePasskey key={p.id} passkey={p} onRemove={() => setOpen(p)} />
            ))}
          </ul>
          {none ? (
            <p className="mt-2 text-soft">{none}</p>
          ) : (
            <Button className="mt-2" onClick={() => setOpen("new")}>
              Add a passkey…
            </Button>
          )}
          {open === "new" && <Add hasPassword={has_password} onClose={() => setOpen(null)} />}
          {open && open !== "new" && <Remove passkey={open} hasPassword={has_password} onClose={() => setOpen(null)} />}
        </>
      )}
    </Loaded>
  );
}

function OnePasskey({ passkey: p, onRemove }: { passkey: Passkey; onRemove: () => void }) {
  const { now, zone } = useClock();
  return (
    <li className="flex items-center gap-3 border-rule border-b py-1.5 last:border-0">
      <span className="min-w-0 flex-1">
        <strong>{p.name}</strong>
        <br />
        <span className="text-soft">
          added {instant(p.added_at, zone, now)}, {p.used_at ? `last used ${relative(p.used_at, now)}` : "not used yet"}
        </span>
      </span>
      <Button aria-label={`Remove ${p.name}…`} onClick={onRemove}>
        Remove…
      </Button>
    </li>
  );
}

function Add({ hasPassword, onClose }: { hasPassword: boolean; onClose: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const add = useMutation({
    mutationFn: async () => {
      const proof = await proofBy(password, hasPassword);
      const { options } = await body(api.POST("/api/v1/own/passkeys/options", { body: proof }));
      const credential = await makePasskey(options);
      return body(api.POST("/api/v1/own/passkeys", { body: { name, credential } }));
    },
    onSuccess: (own) => {
      client.setQueryData(ownPasskeys.queryKey, own);
      client.invalidateQueries({ queryKey: session.queryKey }); // it may open what was closed
      toast(`“${name.trim()}” signs you in from now on.`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title="Add a passkey">
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
      >
        <Labelled label="Name" hint="Of the device that is to hold it, for example: laptop.">
          <input
            className="field"
            required
            maxLength={60}
            value={name}
            // biome-ignore lint/a11y/noAutofocus: the first thing to do here
            autoFocus
            onChange={(e) => setName(e.target.value)}
          />
        </Labelled>
        <Proof hasPassword={hasPassword} value={password} onChange={setPassword} />
        <Problem error={add.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!name.trim() || (hasPassword && !password) || add.isPending}
            aria-busy={add.isPending || undefined}
          >
            Add it
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function Remove({ passkey, hasPassword, onClose }: { passkey: Passkey; hasPassword: boolean; onClose: () => void }) {
  const client = useQueryClient();
  const [password, setPassword] = useState("");
  const path = { params: { path: { passkey_id: passkey.id } } };
  const remove = useMutation({
    mutationFn: async () =>
      body(
        api.POST("/api/v1/own/passkeys/{passkey_id}/remove", {
          ...path,
          body: await proofBy(password, hasPassword),
        }),
      ),
    onSuccess: (own) => {
      client.setQueryData(ownPasskeys.queryKey, own);
      toast(`“${passkey.name}” signs nobody in any more.`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={`Remove the passkey “${passkey.name}”`}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          remove.mutate();
        }}
      >
        <p>
          It opens nothing here any more. Delete it on the device that holds it, too; from here that cannot be done.
        </p>
        <Proof hasPassword={hasPassword} value={password} onChange={setPassword} />
        <Problem error={remove.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="danger" type="submit" disabled={(hasPassword && !password) || remove.isPending}>
            Remove it
          </Button>
        </div>
      </form>
    </Modal>
  );
}

/** What shows who one is: the password, or, where one has none, a passkey that the browser asks for. */
export async function proofBy(password: string, hasPassword: boolean): Promise<Schemas["ProofBodyRequest"]> {
  return hasPassword ? { password, assertion: null } : { password: "", assertion: await askPasskey() };
}

function Proof({
  hasPassword,
  value,
  onChange,
}: {
  hasPassword: boolean;
  value: string;
  onChange: (to: string) => void;
}) {
  if (!hasPassword) return <p className="text-soft">Your browser asks you for a passkey that you have, first.</p>;
  return <PasswordField value={value} onChange={onChange} />;
}
