/** Reads an answer that is a line of JSON for each thing that happens, until it ends or is aborted. */
export async function readLines<T>(answer: Response, take: (line: T) => void): Promise<void> {
  if (!answer.body) return;
  const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (let piece = await reader.read(); !piece.done; piece = await reader.read()) {
    const lines = (rest + piece.value).split("\n");
    rest = lines.pop() ?? "";
    for (const line of lines) take(JSON.parse(line) as T);
  }
}

/** The bytes of a text in base64. */
export function bytesOf(base64: string): Uint8Array {
  return Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
}
