/** Find or do anything: rooms, acts, groups, rollouts, commands, devices. */
import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { Command } from "cmdk";
import { useState } from "react";
import { api, body } from "@/api/client";
import { groups, someRollouts, someSchedules } from "@/api/queries";
import { useMay } from "@/api/use-may";
import { sentenceText } from "@/parts/sentence";
import { Failed } from "@/parts/views";
import { ROOMS } from "./rooms";
import { nextTheme, setTheme } from "./theme";

export function Palette({ open, onClose }: { open: boolean; onClose: () => void }) {
  const navigate = useNavigate();
  const mayOperate = useMay("operate");
  const mayGroup = useMay("operate-all");
  const [words, setWords] = useState("");
  const known = {
    groups: useQuery({ ...groups, enabled: open }),
    rollouts: useQuery({ ...someRollouts(words), enabled: open }),
    schedules: useQuery({ ...someSchedules(words), enabled: open }),
  };
  const devices = useQuery({
    queryKey: ["palette", words],
    queryFn: () => body(api.GET("/api/v1/devices", { params: { query: { q: words, limit: 6 } } })),
    enabled: open && words.length > 1,
  });
  const asked = [known.groups, known.rollouts, known.schedules, ...(words.length > 1 ? [devices] : [])];
  const searching = asked.some((q) => q.isPending && !q.error);
  const failed = asked.find((q) => q.error && !q.data);
  const go = (act: () => void) => () => {
    onClose();
    setWords("");
    act();
  };
  const item = "flex cursor-pointer gap-3 rounded-sm px-2 py-1.5 data-[selected=true]:bg-wash";
  return (
    <Command.Dialog
      open={open}
      onOpenChange={(to) => !to && onClose()}
      label="Find or do"
      className="fixed top-[12%] left-1/2 z-50 w-[38rem] max-w-[94vw] -translate-x-1/2 overflow-hidden rounded-md border border-rule bg-card shadow-xl"
      overlayClassName="fixed inset-0 z-40 bg-ink/30 dark:bg-black/50"
    >
      <Command.Input
        value={words}
        onValueChange={setWords}
        placeholder="Find a device, group or rollout, or do something…"
        className="w-full border-rule border-b bg-transparent px-4 py-3 outline-none"
      />
      <Command.List className="max-h-96 overflow-auto p-2 [&_[cmdk-group-heading]]:px-2 [&_[cmdk-group-heading]]:pt-2 [&_[cmdk-group-heading]]:text-soft">
        {searching ? (
          <Command.Loading className="p-3 text-soft">Searching…</Command.Loading>
        ) : failed ? (
          <Failed what="Some of what could match" of={failed} />
        ) : (
          <Command.Empty className="p-3 text-soft">No match.</Command.Empty>
        )}
        <Command.Group heading="Do">
          <Command.Item className={item} onSelect={go(() => navigate({ to: "/", search: { wall: true } }))}>
            Show Now on a wall screen
          </Command.Item>
          {mayOperate && (
            <>
              {mayGroup && (
                <Command.Item
                  className={item}
                  onSelect={go(() => navigate({ to: "/groups/$id", params: { id: "new" }, search: {} }))}
                >
                  New group
                </Command.Item>
              )}
              <Command.Item className={item} onSelect={go(() => navigate({ to: "/rollouts/new" }))}>
                New rollout
              </Command.Item>
              <Command.Item className={item} onSelect={go(() => navigate({ to: "/commands/new" }))}>
                New command
              </Command.Item>
            </>
          )}
          <Command.Item className={item} onSelect={go(() => setTheme(nextTheme()))}>
            Change between light and dark
          </Command.Item>
        </Command.Group>
        <Command.Group heading="Go to">
          {ROOMS.map((r) => (
            <Command.Item key={r.to} className={item} onSelect={go(() => navigate({ to: r.to }))}>
              {r.word}
            </Command.Item>
          ))}
          <Command.Item className={item} onSelect={go(() => navigate({ to: "/notifications", search: {} }))}>
            Notifications
          </Command.Item>
          <Command.Item className={item} onSelect={go(() => navigate({ to: "/people" }))}>
            People
          </Command.Item>
          <Command.Item className={item} onSelect={go(() => navigate({ to: "/account" }))}>
            Your account
          </Command.Item>
        </Command.Group>
        {devices.data && (
          <Command.Group heading="Devices" forceMount>
            {devices.data.devices.map((d) => (
              <Command.Item
                key={d.id}
                forceMount
                value={`device ${d.name}`}
                className={item}
                onSelect={go(() => navigate({ to: "/devices/$name", params: { name: d.name } }))}
              >
                {d.name}{" "}
                <span className="text-soft">
                  {d.model}, {d.site}
                </span>
              </Command.Item>
            ))}
          </Command.Group>
        )}
        <Command.Group heading="Groups">
          {known.groups.data?.map((g) => (
            <Command.Item
              key={g.id}
              className={item}
              onSelect={go(() => navigate({ to: "/groups/$id", params: { id: String(g.id) } }))}
            >
              {g.name}
            </Command.Item>
          ))}
        </Command.Group>
        <Command.Group heading="Rollouts and commands">
          {known.rollouts.data?.map((r) => (
            <Command.Item
              key={`r${r.id}`}
              className={item}
              value={`rollout ${r.id} ${sentenceText(r.sentence)}`}
              onSelect={go(() => navigate({ to: "/rollouts/$id", params: { id: String(r.id) }, search: {} }))}
            >
              <span className="truncate">{sentenceText(r.sentence)}</span>
            </Command.Item>
          ))}
          {known.schedules.data?.map((s) => (
            <Command.Item
              key={`s${s.id}`}
              className={item}
              value={`command ${s.id} ${sentenceText(s.sentence)}`}
              onSelect={go(() => navigate({ to: "/commands/$id", params: { id: String(s.id) }, search: {} }))}
            >
              <span className="truncate">{sentenceText(s.sentence)}</span>
            </Command.Item>
          ))}
        </Command.Group>
      </Command.List>
    </Command.Dialog>
  );
}
