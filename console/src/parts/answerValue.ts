/** A value that a person is asked for at the workstation, with what counts if nothing is typed. */
interface Question {
  ask: string;
  default?: string;
}

export const isQuestion = (value: unknown): value is Question => typeof value === "object" && value !== null && "ask" in value;

/** A value in one line: a text as it is, a question in words, anything else as JSON. */
export function inLine(value: unknown) {
  if (isQuestion(value)) return `asked: ${value.ask}${value.default ? ` (${value.default})` : ""}`;
  return typeof value === "string" ? value : JSON.stringify(value);
}
