/** The lines of an answer (newline-delimited JSON), each as it comes. */
export async function* jsonLines<T>(body: ReadableStream<Uint8Array>): AsyncGenerator<T> {
  const reader = body.pipeThrough(new TextDecoderStream() as never).getReader() as ReadableStreamDefaultReader<string>;
  let open = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const parts = (open + value).split("\n");
    open = parts.pop() ?? "";
    for (const part of parts) yield JSON.parse(part);
  }
}
