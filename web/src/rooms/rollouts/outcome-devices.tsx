/** The devices behind one count of a preflight, and taking some of them out, or back in. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { counted } from "@/lib/format";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { Loaded } from "@/parts/views";

export function OutcomeDevices({
  id,
  outcome,
  words,
  onClose,
}: {
  id: number;
  outcome: string;
  words: string;
  onClose: () => void;
}) {
  const asked = useQuery({
    queryKey: ["preflight", id, outcome],
    queryFn: () =>
      body(
        api.GET("/api/v1/rollouts/{rollout_id}/preflight/devices", {
          params: { path: { rollout_id: id }, query: { outcome, limit: 200 } },
        }),
      ),
  });
  const client = useQueryClient();
  const [chosen, setChosen] = useState<string[]>([]);
  const [reason, setReason] = useState("");
  const isOut = outcome === "taken_out";
  const change = useMutation({
    mutationFn: () => {
      const path = { params: { path: { rollout_id: id } } };
      return isOut
        ? body(api.POST("/api/v1/rollouts/{rollout_id}/exclusions/remove", { ...path, body: { devices: chosen } }))
        : body(api.POST("/api/v1/rollouts/{rollout_id}/exclusions", { ...path, body: { devices: chosen, reason } }));
    },
    onSuccess: () => {
      changed(client, "draft", id);
      changed(client, "rollout");
      toast(
        isOut ? `${counted(chosen.length, "device")} included again` : `${counted(chosen.length, "device")} excluded`,
      );
      setChosen([]);
    },
  });
  return (
    <Modal open onClose={onClose} title={words}>
      <Loaded of={asked} what="These devices" rows={8} empty={<p>No device.</p>}>
        {(data) => (
          <table className="w-full">
            <thead className="text-left text-soft">
              <tr>
                <th>
                  <span className="sr-only">choose</span>
                </th>
                <th className="font-normal">Device</th>
                <th className="font-normal">Model</th>
                <th className="font-normal">Hardware</th>
                <th className="font-normal">Firmware</th>
                {data.some((d) => d.amounts) && <th className="font-normal">Too little</th>}
              </tr>
            </thead>
            <tbody>
              {data.map((d) => (
                <tr key={d.id} className="border-rule border-t">
                  <td className="py-1">
                    <input
                      type="checkbox"
                      className="accent-[var(--verdigris)]"
                      aria-label={`Choose ${d.name}`}
                      checked={chosen.includes(d.name)}
                      onChange={(e) =>
                        setChosen(e.target.checked ? [...chosen, d.name] : chosen.filter((n) => n !== d.name))
                      }
                    />
                  </td>
                  <td className="py-1">
                    <Link to="/devices/$name" params={{ name: d.name }} className="font-semibold hover:underline">
                      {d.name}
                    </Link>
                  </td>
                  <td>{d.model}</td>
                  <td>{d.hardware_revision}</td>
                  <td className="font-mono">{d.firmware ?? "none"}</td>
                  {d.amounts && <td>{d.amounts}</td>}
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Loaded>
      <form
        className="mt-3 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        {!isOut && (
          <Labelled label="Exclude from this rollout, because">
            <input className="field w-72" maxLength={120} value={reason} onChange={(e) => setReason(e.target.value)} />
          </Labelled>
        )}
        <Button type="submit" disabled={chosen.length === 0 || (!isOut && !reason.trim()) || change.isPending}>
          {isOut ? `Include ${chosen.length || "them"}` : `Exclude ${chosen.length || "them"}`}
        </Button>
      </form>
      <Problem error={change.error} />
      {asked.data && asked.data.length >= 200 && <p className="mt-2 text-soft">The first 200, by name.</p>}
    </Modal>
  );
}
