export interface DiffLine {
  kind: "same" | "added" | "removed";
  text: string;
  /** Line in the later text; of a removed line, the line before which it stood. */
  line: number;
}

/** Longest texts that are compared line by line; beyond, everything counts as changed between the common ends. */
const MOST_CELLS = 4_000_000;

/** What is different between two texts, line by line: a longest common subsequence. */
export function diff(before: string, after: string): DiffLine[] {
  const split = (t: string) => (t === "" ? [] : t.replace(/\n$/, "").split("\n"));
  const [a, b] = [split(before), split(after)];
  let head = 0;
  while (head < a.length && head < b.length && a[head] === b[head]) head++;
  let tail = 0;
  while (tail < a.length - head && tail < b.length - head && a[a.length - 1 - tail] === b[b.length - 1 - tail]) tail++;
  const [x, y] = [a.slice(head, a.length - tail), b.slice(head, b.length - tail)];
  const lines: DiffLine[] = a.slice(0, head).map((text, i) => ({ kind: "same", text, line: i + 1 }));
  lines.push(...middle(x, y, head));
  const rest = b.length - tail;
  lines.push(...b.slice(rest).map((text, i): DiffLine => ({ kind: "same", text, line: rest + i + 1 })));
  return lines;
}

function middle(x: string[], y: string[], offset: number): DiffLine[] {
  const out: DiffLine[] = [];
  if (x.length * y.length > MOST_CELLS) {
    x.forEach((text) => out.push({ kind: "removed", text, line: offset + 1 }));
    y.forEach((text, j) => out.push({ kind: "added", text, line: offset + j + 1 }));
    return out;
  }
  const width = y.length + 1;
  const best = new Uint32Array((x.length + 1) * width);
  for (let i = x.length - 1; i >= 0; i--)
    for (let j = y.length - 1; j >= 0; j--)
      best[i * width + j] =
        x[i] === y[j]
          ? best[(i + 1) * width + j + 1]! + 1
          : Math.max(best[(i + 1) * width + j]!, best[i * width + j + 1]!);
  let [i, j] = [0, 0];
  while (i < x.length || j < y.length) {
    const line = offset + j + 1;
    if (i < x.length && j < y.length && x[i] === y[j]) {
      out.push({ kind: "same", text: y[j]!, line });
      i++;
      j++;
    } else if (j >= y.length || (i < x.length && best[(i + 1) * width + j]! >= best[i * width + j + 1]!)) {
      out.push({ kind: "removed", text: x[i]!, line });
      i++;
    } else {
      out.push({ kind: "added", text: y[j]!, line });
      j++;
    }
  }
  return out;
}

/** The changed lines with so many lines around them; null stands where lines were left out. */
export function around(lines: DiffLine[], context = 3): (DiffLine | null)[] {
  const near = lines.map(() => false);
  lines.forEach((l, i) => {
    if (l.kind !== "same")
      for (let k = Math.max(0, i - context); k <= Math.min(lines.length - 1, i + context); k++) near[k] = true;
  });
  const out: (DiffLine | null)[] = [];
  lines.forEach((l, i) => {
    if (near[i]) out.push(l);
    else if (out.length && out.at(-1) !== null) out.push(null);
  });
  if (out.at(-1) === null) out.pop();
  return out;
}
