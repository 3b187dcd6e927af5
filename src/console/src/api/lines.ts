import { CallError, type Problem } from "./client";
import { call } from "./page";

/** The lines of an answer (newline-delimited JSON) to a call with a body of JSON, each as it comes; what is refused is thrown. */
export async function* asked<T>(path: string, body?: unknown, signal?: AbortSignal): AsyncGenerator<T> {
  const response = await call(path, {
    method: "POST",
    ...(body !== undefined && { headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) }),
    ...(signal && { signal }),
  });
  if (!response.ok || !response.body) throw new CallError((await response.json()) as Problem);
  const reader = response.body
    .pipeThrough(new TextDecoderStream() as never)
    .getReader() as ReadableStreamDefaultReader<string>;
  let open = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const parts = (open + value).split("\n");
    open = parts.pop() ?? "";
    for (const part of parts) yield JSON.parse(part);
  }
}
