/** The name that comes after those of a room: the number that is free next, behind the beginning that most of them have. Nothing if they have none in common. */
export function nextName(names: string[]): string {
  const series = new Map<string, { width: number; numbers: Set<number> }>();
  for (const name of names) {
    const parts = /^(.*?)(\d+)$/.exec(name);
    if (!parts) continue;
    const [, beginning = "", digits = ""] = parts;
    const one = series.get(beginning) ?? { width: digits.length, numbers: new Set() };
    one.numbers.add(Number(digits));
    series.set(beginning, one);
  }
  const most = [...series].toSorted(([, a], [, b]) => b.numbers.size - a.numbers.size)[0];
  if (!most) return "";
  const [beginning, { width, numbers }] = most;
  let n = 1;
  while (numbers.has(n)) n++;
  return beginning + String(n).padStart(width, "0");
}
