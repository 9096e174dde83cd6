/** Everything that can be done to devices, for the chosen ones of a list or for one device. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { toast } from "sonner";
import { api, body } from "@/api/client";
import { handOver, MOST_NAMED } from "@/api/handed-over";
import { changed } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { counted } from "@/lib/format";
import { Menu, MenuItem } from "@/parts/menu";
import { AddToGroup } from "./add-to-group";
import { HoldDevices } from "./hold-devices";
import { byName } from "./queries";

export function DeviceActions({
  devices,
  label,
  onDone,
  children,
}: {
  devices: string[];
  label: string;
  onDone?: () => void;
  /** acts that only one device has */
  children?: ReactNode;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const mayOperate = useMay("operate");
  const mayGroup = useMay("operate-all");
  const [open, setOpen] = useState<"group" | "hold" | null>(null);
  const called = devices.map(byName);
  const many = devices.length > MOST_NAMED;
  const report = useMutation({
    mutationFn: () => body(api.POST("/api/v1/devices/request-report", { body: { devices: called, rule: "" } })),
    onSuccess: ({ asked }) => {
      changed(client, "device");
      const passed = devices.length - asked;
      toast(
        `${counted(asked, "device")} asked to report at the next check-in` +
          (passed
            ? `; ${counted(passed, "other was asked already or does not call", "others were asked already or do not call")}`
            : ""),
      );
    },
    onError: (error) => toast.error(error.message),
  });
  const close = () => setOpen(null);
  const done = () => {
    close();
    onDone?.();
  };
  if (!mayOperate) return <>{children && <Menu label={label}>{children}</Menu>}</>;
  return (
    <>
      <Menu label={label}>
        <MenuItem
          disabled={many}
          onSelect={() => navigate({ to: "/commands/new", search: { devices: handOver(devices) } })}
        >
          Run a command…
        </MenuItem>
        <MenuItem
          disabled={many}
          onSelect={() => navigate({ to: "/rollouts/new", search: { devices: handOver(devices) } })}
        >
          Roll out…
        </MenuItem>
        {mayGroup && <MenuItem onSelect={() => setOpen("group")}>Add to group…</MenuItem>}
        <MenuItem onSelect={() => setOpen("hold")}>Hold in a rollout…</MenuItem>
        <MenuItem disabled={report.isPending} onSelect={() => report.mutate()}>
          Ask to report at the next check-in
        </MenuItem>
        {children}
      </Menu>
      {open === "group" && <AddToGroup devices={called} onClose={close} onDone={done} />}
      {open === "hold" && <HoldDevices devices={called} onClose={close} onDone={done} />}
    </>
  );
}
