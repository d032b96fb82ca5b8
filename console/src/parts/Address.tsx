/** A hardware address, in letters of one width. */
export function Address({ text }: { text: string }) {
  return <span style={{ fontFamily: "ui-monospace, 'DejaVu Sans Mono', monospace", whiteSpace: "nowrap" }}>{text}</span>;
}
