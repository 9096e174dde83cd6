/** The devices behind one count of a preflight, and taking some of them out, or back in. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { counted } from "@/parts/format";

export function Behind({
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
  const { data, error } = useQuery({
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
        ? body(api.POST("/api/v1/rollouts/{rollout_id}/take-back-in", { ...path, body: { devices: chosen } }))
        : body(api.POST("/api/v1/rollouts/{rollout_id}/take-out", { ...path, body: { devices: chosen, reason } }));
    },
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ["preflight", id] });
      client.invalidateQueries({ queryKey: ["rollout"] });
      toast(isOut ? `${counted(chosen.length, "device")} back in` : `${counted(chosen.length, "device")} taken out`);
      setChosen([]);
    },
  });
  return (
    <Modal open onClose={onClose} title={words}>
      <Problem error={error} />
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
          </tr>
        </thead>
        <tbody>
          {data?.map((d) => (
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
            </tr>
          ))}
        </tbody>
      </table>
      <form
        className="mt-3 flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        {!isOut && (
          <Labelled label="Take out of this rollout, because">
            <input className="field w-72" maxLength={120} value={reason} onChange={(e) => setReason(e.target.value)} />
          </Labelled>
        )}
        <Button type="submit" disabled={chosen.length === 0 || (!isOut && !reason.trim()) || change.isPending}>
          {isOut ? `Let ${chosen.length || "them"} take part` : `Take ${chosen.length || "them"} out`}
        </Button>
      </form>
      <Problem error={change.error} />
      {data && data.length >= 200 && <p className="mt-2 text-soft">The first 200, by name.</p>}
    </Modal>
  );
}
