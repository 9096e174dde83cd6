/** What people said about a rollout, a command or an attention item, the latest first, and a field to say more. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { useClock } from "@/lib/clock";
import { counted, fullInstant, instant } from "@/lib/format";
import { Button, Card, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";

type About = "rollout" | "schedule" | "attention";

function read(about: About, id: number) {
  switch (about) {
    case "rollout":
      return body(api.GET("/api/v1/rollouts/{rollout_id}/comments", { params: { path: { rollout_id: id } } }));
    case "schedule":
      return body(api.GET("/api/v1/schedules/{schedule_id}/comments", { params: { path: { schedule_id: id } } }));
    case "attention":
      return body(api.GET("/api/v1/attention/{item_id}/comments", { params: { path: { item_id: id } } }));
  }
}

function say(about: About, id: number, text: string) {
  const said = { body: { text } };
  switch (about) {
    case "rollout":
      return body(
        api.POST("/api/v1/rollouts/{rollout_id}/comments", { params: { path: { rollout_id: id } }, ...said }),
      );
    case "schedule":
      return body(
        api.POST("/api/v1/schedules/{schedule_id}/comments", { params: { path: { schedule_id: id } }, ...said }),
      );
    case "attention":
      return body(api.POST("/api/v1/attention/{item_id}/comments", { params: { path: { item_id: id } }, ...said }));
  }
}

export function Comments({ about, id, className }: { about: About; id: number; className?: string }) {
  const client = useQueryClient();
  const { now, zone } = useClock();
  const mayComment = useMay("comment");
  const [text, setText] = useState("");
  const asked = useQuery({ queryKey: ["comments", id, about], queryFn: () => read(about, id) });
  const add = useMutation({
    mutationFn: () => say(about, id, text),
    onSuccess: () => {
      setText("");
      changed(client, "comments", id);
    },
  });
  return (
    <Card
      className={className}
      title="Comments"
      aside={asked.data?.length ? counted(asked.data.length, "comment") : undefined}
    >
      <Loaded of={asked} what="The comments" rows={1}>
        {(all) =>
          all.length ? (
            <ul className="mb-2 max-h-56 space-y-1.5 overflow-auto">
              {all.map((c) => (
                <li key={c.id}>
                  <span className="font-semibold">{c.author}</span>{" "}
                  <span className="text-soft" title={fullInstant(c.at, zone)}>
                    {instant(c.at, zone, now)}
                  </span>
                  <p className="whitespace-pre-wrap break-words">{c.text}</p>
                </li>
              ))}
            </ul>
          ) : (
            <p className="mb-2 text-soft">Nobody has said anything yet.</p>
          )
        }
      </Loaded>
      {mayComment && (
        <form
          className="flex gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (text.trim()) add.mutate();
          }}
        >
          <input
            className="field min-w-0 flex-1"
            aria-label="Comment"
            placeholder="Say something about it"
            maxLength={2000}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <Button type="submit" disabled={!text.trim() || add.isPending}>
            Comment
          </Button>
        </form>
      )}
      <Problem error={add.error} />
    </Card>
  );
}
