/** A value in one line: a text as it is, anything else as JSON. */
export const inLine = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));

/** What was typed: JSON where it is some, else the text itself. */
export function typed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}
