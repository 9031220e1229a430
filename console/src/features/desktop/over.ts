import type { DesktopMessage } from "../../lib/desktop";

/** The look of a pointer, for a style. */
export function cursorOf(m: Extract<DesktopMessage, { kind: "shape" }>): string {
  if (!m.width || !m.height) return "default";
  const canvas = document.createElement("canvas");
  [canvas.width, canvas.height] = [m.width, m.height];
  canvas.getContext("2d")?.putImageData(new ImageData(m.pixels, m.width, m.height), 0, 0);
  return `url(${canvas.toDataURL()}) ${m.x} ${m.y}, default`;
}

/** Draws what lies over the picture: lines, and the pointer of somebody else. */
export function drawOver(over: HTMLCanvasElement, lines: [number, number][][], pointer?: [number, number]) {
  const to = over.getContext("2d");
  if (!to) return;
  to.clearRect(0, 0, over.width, over.height);
  to.lineWidth = 4;
  to.lineCap = to.lineJoin = "round";
  for (const points of lines) {
    for (const [colour, width] of [
      ["rgb(255 255 255 / 0.85)", 7],
      ["#7a5200", 4],
    ] as const) {
      to.strokeStyle = colour;
      to.lineWidth = width;
      to.beginPath();
      points.forEach(([x, y], i) => (i ? to.lineTo(x, y) : to.moveTo(x, y)));
      if (points.length === 1) to.lineTo(points[0]![0] + 0.1, points[0]![1]);
      to.stroke();
    }
  }
  if (pointer) {
    const [x, y] = pointer;
    to.beginPath();
    [
      [0, 0],
      [0, 17],
      [4, 13],
      [8, 20],
      [11, 18],
      [7, 12],
      [12, 12],
    ].forEach(([dx, dy], i) => (i ? to.lineTo(x + dx!, y + dy!) : to.moveTo(x, y)));
    to.closePath();
    to.fillStyle = "#1d2126";
    to.strokeStyle = "#ffffff";
    to.lineWidth = 1.5;
    to.fill();
    to.stroke();
  }
}
