/** What is used of the library that speaks the remote framebuffer protocol; it brings no types of its own. */
declare module "@novnc/novnc" {
  export default class RFB extends EventTarget {
    constructor(target: HTMLElement, url: string, options?: { shared?: boolean });
    viewOnly: boolean;
    scaleViewport: boolean;
    background: string;
    clipboardPasteFrom(text: string): void;
    focus(): void;
    disconnect(): void;
  }
}
