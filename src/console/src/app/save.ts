/** A table as comma-separated values (RFC 4180), given to the browser as a file. */
export function download(name: string, rows: readonly (readonly (string | number | null | undefined)[])[]) {
  save(name, `${rows.map((row) => row.map(field).join(",")).join("\r\n")}\r\n`, "text/csv");
}

/** A text, given to the browser as a file. */
export function save(name: string, text: string, type: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** What a spreadsheet would take for a formula is kept from being one. */
function field(value: string | number | null | undefined): string {
  const text = typeof value === "string" && /^[=+\-@\t\r]/.test(value) ? `'${value}` : String(value ?? "");
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}
