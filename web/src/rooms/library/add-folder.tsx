/** Adding many images at once: a folder with its files and a manifest.json that describes them. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { api, body } from "@/api/client";
import { changed } from "@/api/topics";
import { counted, megabytes } from "@/lib/format";
import { Bar, Button, Modal, Problem } from "@/parts/controls";
import { findManifest, type Listed, matched, readManifest } from "./manifest";
import { abandonUpload, type Progress, sendFile } from "./upload";

type State =
  | { word: "waits" | "added" }
  | { word: "on its way"; progress: Progress }
  | { word: "refused"; why: string };

export function AddFolder({ onClose }: { onClose: () => void }) {
  const client = useQueryClient();
  const [listed, setListed] = useState<Listed[]>([]);
  const [states, setStates] = useState<Record<string, State>>({});
  const giveUp = useRef(new AbortController());
  const read = useMutation({
    mutationFn: async (files: File[]) => {
      const manifest = findManifest(files);
      if (!manifest) throw new Error("The folder has no manifest.json.");
      return matched(readManifest(await manifest.text()), files, manifest);
    },
    onSuccess: (found) => {
      setListed(found);
      setStates({});
    },
  });
  const say = (file: string, state: State) => setStates((all) => ({ ...all, [file]: state }));
  const add = useMutation({
    mutationFn: async () => {
      giveUp.current = new AbortController();
      for (const { entry, file } of listed) {
        if (states[entry.file]?.word === "added" || !file || giveUp.current.signal.aborted) continue;
        await addOne(entry, file);
      }
      changed(client, "images");
    },
  });
  const addOne = async ({ file: name, ...fields }: Listed["entry"], file: File) => {
    try {
      const upload = await sendFile(
        file,
        (progress) => say(name, { word: "on its way", progress }),
        giveUp.current.signal,
      );
      try {
        await body(api.POST("/api/v1/images", { body: { upload: upload.id, ...fields } }));
        say(name, { word: "added" });
      } catch (error) {
        await abandonUpload(upload);
        throw error;
      }
    } catch (error) {
      say(name, { word: "refused", why: error instanceof Error ? error.message : String(error) });
    }
  };
  const close = () => {
    giveUp.current.abort();
    onClose();
  };
  const lacking = listed.filter((l) => !l.file);
  const left = listed.filter((l) => l.file && states[l.entry.file]?.word !== "added");
  const added = listed.length - lacking.length - left.length;
  return (
    <Modal open onClose={close} title="Add images from a folder">
      <p className="text-soft">
        The folder has a <code className="font-mono text-xs">manifest.json</code>: a list with file, version and models
        of each image, and what else it needs.
      </p>
      <input
        type="file"
        aria-label="Folder of images"
        className="my-2"
        disabled={add.isPending}
        {...{ webkitdirectory: "" }}
        multiple
        onChange={(e) => read.mutate([...(e.target.files ?? [])])}
      />
      <Problem error={read.error ?? add.error} />
      <ul className="max-h-72 overflow-auto" aria-live="polite">
        {listed.map(({ entry, file }) => {
          const state = states[entry.file];
          return (
            <li key={entry.file} className="border-rule border-b border-dashed py-1">
              <div className="flex gap-3">
                <strong className="font-semibold">{entry.version}</strong>
                <span className="truncate">{entry.models.join(", ")}</span>
                <span className="ml-auto whitespace-nowrap text-soft">
                  {file ? `${entry.file}, ${megabytes(file.size)}` : entry.file}
                </span>
                <span className={`w-20 text-right ${state?.word === "refused" || !file ? "text-brick" : ""}`}>
                  {file ? (state?.word ?? "waits") : "not there"}
                </span>
              </div>
              {state?.word === "on its way" && (
                <Bar
                  share={state.progress.total ? state.progress.sent / state.progress.total : 0}
                  label={`${entry.file}: ${state.progress.sent} bytes sent`}
                />
              )}
              {state?.word === "refused" && <p className="text-brick">{state.why}</p>}
            </li>
          );
        })}
      </ul>
      {listed.length > 0 && (
        <p className="mt-2 text-soft">
          {counted(added, "image")} added, {left.length} to go
          {lacking.length > 0 && `; ${counted(lacking.length, "file")} of the manifest not in the folder`}.
        </p>
      )}
      <div className="mt-3 flex justify-end gap-2">
        <Button onClick={close}>{added > 0 && left.length === 0 ? "Close" : "Cancel"}</Button>
        <Button kind="main" disabled={left.length === 0 || add.isPending} onClick={() => add.mutate()}>
          Add {counted(left.length, "image")}
        </Button>
      </div>
    </Modal>
  );
}
