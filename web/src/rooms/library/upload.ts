/** Bringing a large file in piece by piece; a piece that is lost on the way is sent again from where the server is. */
import { ApiError, api, body, type Schemas } from "@/api/client";

type Upload = Schemas["UploadRow"];
const TRIES = 5;
const WAIT_MS = 1000;
/** The first piece; how long one is to take, so that a slow link shows how far it is, and a quick one is not held up. */
const FIRST_BYTES = 256 * 1024;
const [QUICK_MS, SLOW_MS] = [1500, 6000];

export interface Progress {
  sent: number;
  total: number;
}

const wait = (ms: number) => new Promise((done) => setTimeout(done, ms));

/** Sends the file and gives the upload once it is whole. `signal` abandons it, and leaves nothing behind. */
export async function sendFile(
  file: File,
  onProgress: (progress: Progress) => void,
  signal: AbortSignal,
  send: (upload: Upload, offset: number, piece: Blob) => Promise<Upload> = sendPiece,
): Promise<Upload> {
  let upload = await body(api.POST("/api/v1/uploads", { body: { file_name: file.name, size_bytes: file.size } }));
  let failures = 0;
  let size = FIRST_BYTES;
  while (upload.received_bytes < file.size) {
    if (signal.aborted) {
      await abandonUpload(upload);
      throw new DOMException("The upload was given up.", "AbortError");
    }
    const offset = upload.received_bytes;
    const began = performance.now();
    try {
      upload = await send(upload, offset, file.slice(offset, offset + Math.min(size, upload.piece_bytes)));
      failures = 0;
      size = nextSize(size, performance.now() - began, upload.piece_bytes);
    } catch (error) {
      const next = nextOffset(error, failures);
      if (next === null) throw error;
      failures += 1;
      if (next !== undefined) upload = { ...upload, received_bytes: next };
      else await wait(WAIT_MS * failures);
    }
    onProgress({ sent: upload.received_bytes, total: file.size });
  }
  return upload;
}

/** How large the next piece is, after one of `size` bytes took so long; at most `most`. */
export function nextSize(size: number, ms: number, most: number): number {
  if (ms < QUICK_MS) return Math.min(size * 2, most);
  return ms > SLOW_MS ? Math.max(size / 2, FIRST_BYTES) : size;
}

/** Leaves nothing of the file behind. */
export function abandonUpload(upload: Upload): Promise<unknown> {
  return body(api.DELETE("/api/v1/uploads/{upload_id}", { params: { path: { upload_id: upload.id } } }));
}

/** Where to go on after a failure: a byte that the server named, undefined for the same again, null for giving up. */
export function nextOffset(error: unknown, failures: number): number | null | undefined {
  if (error instanceof ApiError && error.status === 409 && typeof error.body.received === "number")
    return error.body.received;
  const gone = error instanceof ApiError && error.status < 500;
  return gone || failures >= TRIES ? null : undefined;
}

async function sendPiece(upload: Upload, offset: number, piece: Blob): Promise<Upload> {
  return body(
    api.PUT("/api/v1/uploads/{upload_id}", {
      params: { path: { upload_id: upload.id }, query: { offset } },
      headers: { "Content-Type": "application/octet-stream" },
      body: piece as unknown as string,
      bodySerializer: (given: unknown) => given as Blob,
    }),
  );
}

/** The version in a file's name: “sill-5.2.1.bin” says 5.2.1. */
export function versionIn(name: string): string {
  return /(\d+(?:\.\d+)+(?:-[0-9A-Za-z.]+?)?)(?=\.[A-Za-z]+$|$|[_\s])/.exec(name)?.[1] ?? "";
}
