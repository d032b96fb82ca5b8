/** Has the browser save a text, or what was fetched, as a file. */
export function save(name: string, content: string | Blob) {
  const url = URL.createObjectURL(typeof content === "string" ? new Blob([content], { type: "text/plain" }) : content);
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  URL.revokeObjectURL(url);
}
