/** Adding an image: the file comes in while what it needs is described. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { toast } from "sonner";
import { api, body, type Schemas } from "@/api/client";
import { models as modelsQuery } from "@/api/queries";
import { changed } from "@/api/topics";
import { megabytes } from "@/lib/format";
import { Bar, Button, Labelled, Modal, Problem } from "@/parts/controls";
import { abandonUpload, type Progress, sendFile, versionIn } from "./upload";

const NUMBERS = {
  expected_minutes: "Minutes that it takes",
  soak_minutes: "Good health before confirmed, minutes",
  free_space_mb: "Free space, MB",
  min_battery_pct: "Battery, %",
} as const;

export function AddImage({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const { data: models } = useQuery(modelsQuery);
  const [progress, setProgress] = useState<Progress | null>(null);
  const [family, setFamily] = useState("");
  const [fits, setFits] = useState<string[]>([]);
  const [fields, setFields] = useState<Record<string, string>>({ expected_minutes: "10", soak_minutes: "0" });
  const giveUp = useRef(new AbortController());
  const upload = useMutation({
    mutationFn: (file: File) => {
      giveUp.current = new AbortController();
      setProgress({ sent: 0, total: file.size });
      setFields((old) => ({ ...old, version: old.version || versionIn(file.name) }));
      return sendFile(file, setProgress, giveUp.current.signal);
    },
  });
  const number = (key: string) => (fields[key]?.trim() ? Number(fields[key]) : null);
  const save = useMutation({
    mutationFn: (from: Schemas["UploadRow"]) =>
      body(
        api.POST("/api/v1/images", {
          body: {
            upload: from.id,
            models: fits,
            version: fields.version ?? "",
            min_version: fields.min_version ?? "",
            max_version: fields.max_version ?? "",
            hardware_revisions: (fields.revisions ?? "").split(/[,\s]+/).filter(Boolean),
            notes: fields.notes ?? "",
            expected_minutes: number("expected_minutes") ?? 10,
            soak_minutes: number("soak_minutes") ?? 0,
            free_space_mb: number("free_space_mb"),
            min_battery_pct: number("min_battery_pct"),
            released_on: fields.released_on || null,
            expires_on: fields.expires_on || null,
          },
        }),
      ),
    onSuccess: (made) => {
      changed(client, "images");
      toast(`${made.name} is there; somebody else must approve it`);
      onClose();
    },
  });
  const families = [...new Set(models?.map((m) => m.family))];
  const close = () => {
    giveUp.current.abort();
    if (upload.data) void abandonUpload(upload.data);
    onClose();
  };
  const input = (key: string, label: string, type = "text", hint?: string) => (
    <Labelled label={label} hint={hint}>
      <input
        className="field"
        type={type}
        value={fields[key] ?? ""}
        onChange={(e) => setFields({ ...fields, [key]: e.target.value })}
      />
    </Labelled>
  );
  return (
    <Modal open onClose={close} title="Add an image">
      <form
        className="grid grid-cols-2 gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (upload.data) save.mutate(upload.data);
        }}
      >
        <div className="col-span-2 space-y-1" aria-live="polite">
          <input
            type="file"
            aria-label="Image file"
            disabled={upload.isPending || upload.isSuccess}
            onChange={(e) => e.target.files?.[0] && upload.mutate(e.target.files[0])}
          />
          {progress && (
            <>
              <Bar share={progress.total ? progress.sent / progress.total : 0} label={`${progress.sent} bytes sent`} />
              <p className="text-soft">
                {upload.isSuccess
                  ? `${megabytes(progress.total)} are there.`
                  : `${megabytes(progress.sent)} of ${megabytes(progress.total)}; describe it meanwhile.`}
              </p>
            </>
          )}
          <Problem error={upload.error} />
        </div>
        <Labelled label="Family">
          <select
            className="field"
            value={family}
            onChange={(e) => {
              setFamily(e.target.value);
              setFits(models?.filter((m) => m.family === e.target.value).map((m) => m.name) ?? []);
            }}
          >
            <option value="">choose…</option>
            {families.map((f) => (
              <option key={f}>{f}</option>
            ))}
          </select>
        </Labelled>
        {input("version", "Version")}
        <fieldset className="col-span-2 flex flex-wrap gap-x-4">
          <legend className="font-semibold text-soft">For the models</legend>
          {models
            ?.filter((m) => m.family === family)
            .map((m) => (
              <label key={m.id} className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="accent-[var(--verdigris)]"
                  checked={fits.includes(m.name)}
                  onChange={(e) => setFits(e.target.checked ? [...fits, m.name] : fits.filter((n) => n !== m.name))}
                />
                {m.name}
              </label>
            ))}
          {!family && <span className="text-soft">a family first</span>}
        </fieldset>
        {input("revisions", "Hardware revisions", "text", "Between commas; empty is any.")}
        {input("min_version", "Upgrades from version", "text", "Empty is any.")}
        {Object.entries(NUMBERS).map(([key, label]) => (
          <div key={key}>{input(key, label, "number")}</div>
        ))}
        {input("released_on", "Released on", "date")}
        {input("expires_on", "Expires on", "date")}
        <div className="col-span-2">{input("notes", "Notes")}</div>
        <div className="col-span-2">
          <Problem error={save.error} />
        </div>
        <div className="col-span-2 flex justify-end gap-2">
          <Button onClick={close}>Cancel</Button>
          <Button
            kind="main"
            type="submit"
            disabled={!upload.isSuccess || !fits.length || !fields.version?.trim() || save.isPending}
          >
            Add the image
          </Button>
        </div>
      </form>
    </Modal>
  );
}
