/** The rules by which people and channels are told, and the channels. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { Button, Confirm, Empty, Labelled, Modal, Problem } from "@/parts/controls";
import { ShownOnce } from "@/parts/shown-once";
import { Loaded } from "@/parts/views";
import { rules as rulesQuery } from "./queries";
import { RuleForm } from "./rule-form";
import { ruleWords } from "./rule-words";

type Rule = Schemas["NotificationRuleRow"];
type Answer = Schemas["NotificationRules"];
type Channel = Schemas["ChannelRow"];

export function Rules() {
  const asked = useQuery(rulesQuery);
  const may = useMay("administer");
  const [open, setOpen] = useState<Rule | "new" | null>(null);
  return (
    <Loaded of={asked} what="The rules" rows={5}>
      {(all) => (
        <>
          {!all.sends_mail && (
            <p role="note" className="mb-3 bg-wash px-3 py-2">
              This installation sends no mail: whoever runs it sets HERALD_MAIL_URL. People find what they are told in
              the program; channels are called.
            </p>
          )}
          <div className="mb-1 flex items-baseline gap-3">
            <h2 className="text-[1.05rem]">Rules</h2>
            {may ? (
              <Button className="ml-auto" onClick={() => setOpen("new")}>
                New rule
              </Button>
            ) : (
              <span className="ml-auto text-soft">An administrator makes and changes them.</span>
            )}
          </div>
          {all.rules.length === 0 ? (
            <Empty title="Nobody is told of anything">
              A rule says of what wants attention whom to tell, by mail, in the program, or by a call to another system.
            </Empty>
          ) : (
            <ul className="rounded-md border border-rule bg-card" aria-label="Rules">
              {all.rules.map((r) => (
                <RuleRow key={r.id} rule={r} all={all} onOpen={may ? () => setOpen(r) : undefined} />
              ))}
            </ul>
          )}
          <Channels channels={all.channels} />
          {open && <RuleForm rule={open === "new" ? null : open} all={all} onClose={() => setOpen(null)} />}
        </>
      )}
    </Loaded>
  );
}

function RuleRow({ rule: r, all, onOpen }: { rule: Rule; all: Answer; onOpen?: () => void }) {
  const client = useQueryClient();
  const remove = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/notifications/{rule_id}", { params: { path: { rule_id: r.id } } })),
    onSuccess: () => changed(client, "notifications"),
  });
  const tellsNobody = r.people.length + r.channels.length === 0;
  return (
    <li className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-rule border-b px-4 py-2 last:border-0">
      <div className="min-w-0 flex-1">
        <strong>{r.name}</strong>
        {!r.is_on && <span className="ml-2 text-brick">off</span>}
        {tellsNobody && <span className="ml-2 text-brick">tells nobody</span>}
        <p>{ruleWords(r, all.kinds)}</p>
        <Problem error={remove.error} />
      </div>
      {onOpen && (
        <span>
          <Button kind="quiet" onClick={onOpen}>
            Change…
          </Button>
          <Confirm
            trigger={
              <Button kind="quiet" className="text-brick!">
                Delete…
              </Button>
            }
            title={`Delete the rule “${r.name}”?`}
            action="Delete the rule"
            danger
            onConfirm={() => remove.mutate()}
          >
            Nobody is told by it any more. What it told stays.
          </Confirm>
        </span>
      )}
    </li>
  );
}

function Channels({ channels }: { channels: Channel[] }) {
  const may = useMay("administer");
  const [open, setOpen] = useState<Channel | "new" | null>(null);
  return (
    <>
      <div className="mt-5 mb-1 flex items-baseline gap-3">
        <h2 className="text-[1.05rem]">Channels</h2>
        <span className="text-soft">Other systems that are called: signed CloudEvents by HTTP.</span>
        {may && (
          <Button className="ml-auto" onClick={() => setOpen("new")}>
            New channel
          </Button>
        )}
      </div>
      <ul className="rounded-md border border-rule bg-card" aria-label="Channels">
        {channels.length === 0 && <li className="px-4 py-2 text-soft">None.</li>}
        {channels.map((c) => (
          <ChannelRow key={c.id} channel={c} onOpen={may ? () => setOpen(c) : undefined} />
        ))}
      </ul>
      {open && <ChannelForm channel={open === "new" ? null : open} onClose={() => setOpen(null)} />}
    </>
  );
}

function ChannelRow({ channel: c, onOpen }: { channel: Channel; onOpen?: () => void }) {
  const client = useQueryClient();
  const by = { params: { path: { channel_id: c.id } } };
  const test = useMutation({
    mutationFn: () => body(api.POST("/api/v1/channels/{channel_id}/test", by)),
    onSuccess: () => toast(`A test is on its way to “${c.name}”; “What was sent” says how it went.`),
  });
  const remove = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/channels/{channel_id}", by)),
    onSuccess: () => changed(client, "notifications"),
  });
  return (
    <li className="flex flex-wrap items-baseline gap-x-4 border-rule border-b px-4 py-2 last:border-0">
      <strong>{c.name}</strong>
      <span className="min-w-0 flex-1 truncate text-soft">{c.url}</span>
      {!c.is_on && <span className="text-brick">off</span>}
      {onOpen && (
        <span>
          <Button kind="quiet" disabled={test.isPending} onClick={() => test.mutate()}>
            Test
          </Button>
          <Button kind="quiet" onClick={onOpen}>
            Change…
          </Button>
          <Confirm
            trigger={
              <Button kind="quiet" className="text-brick!">
                Delete…
              </Button>
            }
            title={`Delete the channel “${c.name}”?`}
            action="Delete the channel"
            danger
            onConfirm={() => remove.mutate()}
          >
            It is called no more, and the list of what it was told goes with it.
          </Confirm>
        </span>
      )}
      <Problem error={test.error ?? remove.error} />
    </li>
  );
}

function ChannelForm({ channel, onClose }: { channel: Channel | null; onClose: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState(channel?.name ?? "");
  const [url, setUrl] = useState(channel?.url ?? "https://");
  const [isOn, setOn] = useState(channel?.is_on ?? true);
  const wanted = { name, url, is_on: isOn };
  const make = useMutation({
    mutationFn: () => body(api.POST("/api/v1/channels", { body: wanted })),
    onSuccess: () => changed(client, "notifications"),
  });
  const change = useMutation({
    mutationFn: (id: number) =>
      body(api.PUT("/api/v1/channels/{channel_id}", { params: { path: { channel_id: id } }, body: wanted })),
    onSuccess: () => {
      changed(client, "notifications");
      onClose();
    },
  });
  if (make.data)
    return (
      <ShownOnce title={`The secret of “${make.data.name}”`} secret={make.data.secret} onClose={onClose}>
        It signs each call (Standard Webhooks, v1). Copy it now: it is not shown again.
      </ShownOnce>
    );
  return (
    <Modal open onClose={onClose} title={channel ? `Change “${channel.name}”` : "New channel"}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (channel) change.mutate(channel.id);
          else make.mutate();
        }}
      >
        <Labelled label="Name">
          <input className="field" required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
        </Labelled>
        <Labelled
          label="Address"
          hint="Addresses inside the server's own network are called only where its settings allow it."
        >
          <input className="field" type="url" required value={url} onChange={(e) => setUrl(e.target.value)} />
        </Labelled>
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={isOn} onChange={(e) => setOn(e.target.checked)} />
          It is called
        </label>
        <Problem error={make.error ?? change.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!name.trim() || make.isPending || change.isPending}>
            {channel ? "Save" : "Make the channel"}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
