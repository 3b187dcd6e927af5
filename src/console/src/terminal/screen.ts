import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";
import "./terminal.css";

const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? "";

/** The library makes elements of style of its own, which the page's policy takes with its nonce alone. */
function openIn(terminal: Terminal, element: HTMLElement) {
  const make = document.createElement.bind(document);
  document.createElement = ((name: string, options?: ElementCreationOptions) => {
    const made = make(name, options);
    if (name === "style") made.nonce = nonce;
    return made;
  }) as typeof document.createElement;
  try {
    terminal.open(element);
  } finally {
    document.createElement = make;
  }
}

/** What draws a terminal, in an element. */
export function screenIn(element: HTMLElement, readOnly: boolean) {
  const terminal = new Terminal({
    fontFamily: '"JetBrains Mono Variable", monospace',
    fontSize: 13,
    scrollback: 2000,
    cursorBlink: false,
    disableStdin: readOnly,
    screenReaderMode: true,
  });
  openIn(terminal, element);
  return terminal;
}
