/** A hardware address, in letters of one width. */
export function Address({ of }: { of: string }) {
  return <span style={{ fontFamily: "ui-monospace, 'DejaVu Sans Mono', monospace", whiteSpace: "nowrap" }}>{of}</span>;
}
