/** What can be done to one device only: replaced, given another secret, retired, removed for good. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useId, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { devicesChanged } from "@/api/topics";
import { useMay } from "@/api/use-may";
import { counted } from "@/lib/format";
import { useDebounced } from "@/lib/use-debounced";
import { Button, Labelled, Modal, Problem } from "@/parts/controls";
import { MenuItem, MenuLine } from "@/parts/menu";
import { byName, deviceCalled } from "./queries";

type Device = Schemas["DeviceDetail"];
export type OneDeviceAction = "replace" | "issue" | "revoke" | "retire" | "remove";

export function OneDeviceItems({ device, onChoose }: { device: Device; onChoose: (act: OneDeviceAction) => void }) {
  const mayOperate = useMay("operate-all");
  const mayAdminister = useMay("administer");
  const retired = device.admission === "retired";
  return (
    <>
      {mayOperate && !retired && (
        <>
          <MenuLine />
          <MenuItem onSelect={() => onChoose("replace")}>Replace by another device…</MenuItem>
        </>
      )}
      {mayAdminister && !retired && <MenuItem onSelect={() => onChoose("issue")}>Issue a new secret…</MenuItem>}
      {mayOperate && !retired && device.has_secret && (
        <MenuItem onSelect={() => onChoose("revoke")}>Revoke its secret…</MenuItem>
      )}
      {mayOperate && !retired && (
        <MenuItem danger onSelect={() => onChoose("retire")}>
          Retire…
        </MenuItem>
      )}
      {mayAdminister && retired && (
        <MenuItem danger onSelect={() => onChoose("remove")}>
          Remove for good…
        </MenuItem>
      )}
    </>
  );
}

export function OneDeviceDialog({
  device,
  act,
  onClose,
}: {
  device: Device;
  act: OneDeviceAction;
  onClose: () => void;
}) {
  switch (act) {
    case "replace":
      return <Replace device={device} onClose={onClose} />;
    case "issue":
      return <Issue device={device} onClose={onClose} />;
    case "revoke":
      return <Revoke device={device} onClose={onClose} />;
    case "retire":
      return <Retire device={device} onClose={onClose} />;
    case "remove":
      return <Remove device={device} onClose={onClose} />;
  }
}

function useAgain() {
  const client = useQueryClient();
  return () => devicesChanged(client);
}

interface Props {
  device: Device;
  onClose: () => void;
}

function Replace({ device, onClose }: Props) {
  const again = useAgain();
  const navigate = useNavigate();
  const [by, setBy] = useState("");
  const list = useId();
  const words = useDebounced(by.trim(), 250);
  const found = useQuery({
    queryKey: ["fleet", "named", words],
    queryFn: () => body(api.GET("/api/v1/devices", { params: { query: { q: words, limit: 12 } } })),
    enabled: words !== "",
  });
  const told = useQuery({
    queryKey: ["preview", "replace", device.id, words],
    queryFn: () =>
      body(
        api.POST("/api/v1/devices/{device}/replace/preview", {
          params: deviceCalled(device.name),
          body: { by: words },
        }),
      ),
    enabled: words !== "",
    retry: false,
  });
  const replace = useMutation({
    mutationFn: () =>
      body(api.POST("/api/v1/devices/{device}/replace", { params: deviceCalled(device.name), body: { by: words } })),
    onSuccess: (made) => {
      again();
      toast(`${made.name} is now ${made.uid}`);
      onClose();
      navigate({ to: "/devices/$name", params: { name: made.name } });
    },
  });
  const isTold = told.data && words === by.trim() && !told.error;
  return (
    <Modal open onClose={onClose} title={`Replace ${device.name}`}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          replace.mutate();
        }}
      >
        <p className="text-soft">
          The new device takes over the name, site, custodian, tags, attributes, time zone, check-in interval, static
          groups and admission. {device.name} is retired and keeps its history.
        </p>
        <Labelled label="New device, by name or uid" hint="Add or import it first if it is not known yet.">
          <input className="field" list={list} value={by} onChange={(e) => setBy(e.target.value)} />
          <datalist id={list}>
            {found.data?.devices
              .filter((d) => d.id !== device.id)
              .map((d) => (
                <option key={d.id} value={d.name}>
                  {[d.model, d.site, d.admission].filter(Boolean).join(", ")}
                </option>
              ))}
          </datalist>
        </Labelled>
        {words !== "" && !told.data && !told.error && (
          <div className="h-10 animate-pulse rounded-md bg-side" aria-hidden />
        )}
        {isTold && (
          <ul className="list-disc pl-5" aria-live="polite">
            <li>
              {device.name} becomes <strong>{told.data.old_name}</strong>, retired.
            </li>
            <li>
              {told.data.groups.length
                ? `The new device takes its place in ${told.data.groups.map((g) => `“${g.name}”`).join(", ")}.`
                : "It is in no static group."}{" "}
              Groups by rule follow by themselves.
            </li>
            {told.data.named_in > 0 && (
              <li>
                {counted(told.data.named_in, "rollout or command names", "rollouts and commands name")} the new device
                instead.
              </li>
            )}
            {told.data.withdrawn > 0 && <li>{counted(told.data.withdrawn, "order is", "orders are")} withdrawn.</li>}
            {told.data.finishing > 0 && (
              <li>{counted(told.data.finishing, "order is", "orders are")} being carried out and will finish.</li>
            )}
          </ul>
        )}
        <Problem error={told.error ?? replace.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="main" type="submit" disabled={!isTold || replace.isPending}>
            Replace {device.name}
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function Issue({ device, onClose }: Props) {
  const again = useAgain();
  const issue = useMutation({
    mutationFn: () => body(api.POST("/api/v1/devices/{device}/secret/issue", { params: deviceCalled(device.name) })),
    onSuccess: again,
  });
  return (
    <Modal open onClose={onClose} title={`A new secret for ${device.name}`}>
      {issue.data ? (
        <div className="space-y-3">
          <p>This secret is shown once. Put it on the device; the old one stopped working.</p>
          <code className="block select-all break-all rounded-sm border border-rule bg-side p-2 font-mono">
            {issue.data.secret}
          </code>
          <div className="flex justify-end gap-2">
            <Button onClick={() => navigator.clipboard?.writeText(issue.data.secret).then(() => toast("Copied"))}>
              Copy
            </Button>
            <Button kind="main" onClick={onClose}>
              Done
            </Button>
          </div>
        </div>
      ) : (
        <Sure
          action="Issue a new secret"
          pending={issue.isPending}
          error={issue.error}
          onClose={onClose}
          onSure={() => issue.mutate()}
        >
          Its secret of now stops working at once. The device cannot call until it has the new one
          {device.admission === "admitted" && ", and orders wait for it meanwhile"}.
        </Sure>
      )}
    </Modal>
  );
}

function Revoke({ device, onClose }: Props) {
  const again = useAgain();
  const revoke = useMutation({
    mutationFn: () => api.POST("/api/v1/devices/{device}/secret/revoke", { params: deviceCalled(device.name) }),
    onSuccess: () => {
      again();
      toast(`The secret of ${device.name} is revoked; it may enrol again`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={`Revoke the secret of ${device.name}?`}>
      <Sure
        action="Revoke its secret"
        danger
        pending={revoke.isPending}
        error={revoke.error}
        onClose={onClose}
        onSure={() => revoke.mutate()}
      >
        The device is shut out at once. It may enrol again with any valid code, and then goes on as {device.name}, with
        its groups and orders.
      </Sure>
    </Modal>
  );
}

function Retire({ device, onClose }: Props) {
  const again = useAgain();
  const retire = useMutation({
    mutationFn: () =>
      body(
        api.POST("/api/v1/edits", {
          body: {
            target: { devices: [byName(device.name)], rule: "" },
            admission: "retired",
          } as Schemas["EditRequestRequest"],
        }),
      ),
    onSuccess: () => {
      again();
      toast(`${device.name} is retired`);
      onClose();
    },
  });
  return (
    <Modal open onClose={onClose} title={`Retire ${device.name}?`}>
      <Sure
        action={`Retire ${device.name}`}
        danger
        pending={retire.isPending}
        error={retire.error}
        onClose={onClose}
        onSure={() => retire.mutate()}
      >
        It is told so at its next call and gets no more orders. Its history stays, and it can be admitted again.
      </Sure>
    </Modal>
  );
}

function Remove({ device, onClose }: Props) {
  const again = useAgain();
  const navigate = useNavigate();
  const [typed, setTyped] = useState("");
  const told = useQuery({
    queryKey: ["preview", "removal", device.id],
    queryFn: () => body(api.GET("/api/v1/devices/{device}/removal", { params: deviceCalled(device.name) })),
  });
  const remove = useMutation({
    mutationFn: () =>
      api.POST("/api/v1/devices/{device}/removal", { params: deviceCalled(device.name), body: { name: typed } }),
    onSuccess: () => {
      toast(`${device.name} is removed for good`);
      onClose();
      navigate({ to: "/fleet", search: {} }).then(again);
    },
  });
  const d = told.data;
  return (
    <Modal open onClose={onClose} title={`Remove ${device.name} for good?`}>
      <form
        className="space-y-3"
        onSubmit={(e) => {
          e.preventDefault();
          remove.mutate();
        }}
      >
        {!d && !told.error && <div className="h-10 animate-pulse rounded-md bg-side" aria-hidden />}
        {d && (
          <p>
            Its history goes with it and cannot be brought back: {counted(d.orders, "order")}
            {d.rollouts > 0 && `, so that ${counted(d.rollouts, "rollout counts", "rollouts count")} one device less`}
            {d.groups > 0 && `; it leaves ${counted(d.groups, "group")}`}. Its uid is not taken again unless an
            administrator lets it in.
          </p>
        )}
        <Labelled label={`Type ${device.name} to remove it`}>
          <input className="field" value={typed} onChange={(e) => setTyped(e.target.value)} />
        </Labelled>
        <Problem error={told.error ?? remove.error} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button kind="danger" type="submit" disabled={!d || typed !== device.name || remove.isPending}>
            Remove for good
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function Sure({
  children,
  action,
  danger = false,
  pending,
  error,
  onClose,
  onSure,
}: {
  children: React.ReactNode;
  action: string;
  danger?: boolean;
  pending: boolean;
  error: unknown;
  onClose: () => void;
  onSure: () => void;
}) {
  return (
    <div className="space-y-3">
      <p>{children}</p>
      <Problem error={error} />
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button kind={danger ? "danger" : "main"} disabled={pending} onClick={onSure}>
          {action}
        </Button>
      </div>
    </div>
  );
}
