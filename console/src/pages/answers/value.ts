/** A value in one line: a text as it is, anything else as JSON. */
export const inLine = (value: unknown) => (typeof value === "string" ? value : JSON.stringify(value));
