import { Terminal } from "@xterm/xterm";

/** Width of a character of the monospaced family, in parts of the font size. */
const ASPECT = 0.615;

/** Height of a line, in parts of the font size. */
const LINE = 1.15;

/** Width of the terminal's own scroll bar. */
const BAR = 14;

/**
 * The largest type, up to 14 pixels, with which the whole width is seen without scrolling. Cells are whole pixels wide.
 */
export function fontSize(width: number, columns: number): number {
  const cell = Math.floor((width - BAR) / columns);
  return Math.max(7, Math.min(14, Math.floor((cell / ASPECT) * 4) / 4));
}

/** Columns that a place of this width has in type of this size, and rows for so much height. */
export function cellsIn(width: number, height: number, size: number): [number, number] {
  const within = (n: number, least: number, most: number) => Math.max(least, Math.min(most, Math.floor(n)));
  return [within((width - BAR) / Math.ceil(size * ASPECT), 40, 240), within(height / (size * LINE), 12, 80)];
}

/**
 * A terminal under a content security policy without inline styles. The library writes its rules into style elements,
 * which the policy ignores; here each such element stands for a constructed style sheet instead.
 */
export function openTerminal(host: HTMLElement, columns: number, rows: number): Terminal {
  const terminal = new Terminal({
    cols: columns,
    rows,
    disableStdin: true,
    convertEol: false,
    scrollback: 5000,
    fontSize: fontSize(host.clientWidth, columns),
    lineHeight: LINE,
    fontFamily: '"Atkinson Hyperlegible Mono Variable", "DejaVu Sans Mono", monospace',
    theme: { background: "#0e1215", foreground: "#e6e4dd", cursor: "#6fd0c9" },
  });
  const create = document.createElement.bind(document);
  const stand = (name: string, options?: ElementCreationOptions) =>
    name === "style" ? standIn(create) : create(name, options);
  // What is only shown takes no keys: Tab goes on to what comes after it.
  terminal.attachCustomKeyEventHandler(() => false);
  document.createElement = stand as typeof document.createElement;
  try {
    terminal.open(host);
  } finally {
    document.createElement = create;
  }
  return terminal;
}

function standIn(create: typeof document.createElement): HTMLElement {
  const element = create("span");
  element.hidden = true;
  const sheet = new CSSStyleSheet();
  document.adoptedStyleSheets = [...document.adoptedStyleSheets, sheet];
  let text = "";
  Object.defineProperty(element, "textContent", {
    get: () => text,
    set: (value: string) => {
      text = value;
      sheet.replaceSync(value);
    },
  });
  element.remove = () => {
    document.adoptedStyleSheets = document.adoptedStyleSheets.filter((s) => s !== sheet);
    HTMLElement.prototype.remove.call(element);
  };
  return element;
}
