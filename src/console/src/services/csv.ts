/** A table as comma-separated values (RFC 4180), given to the browser as a file. */
export function download(name: string, rows: readonly (readonly (string | number | null | undefined)[])[]) {
  const text = rows.map((row) => row.map(field).join(",")).join("\r\n");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([`${text}\r\n`], { type: "text/csv" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** What a spreadsheet would take for a formula is kept from being one. */
function field(value: string | number | null | undefined): string {
  const text = typeof value === "string" && /^[=+\-@\t\r]/.test(value) ? `'${value}` : String(value ?? "");
  return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}
