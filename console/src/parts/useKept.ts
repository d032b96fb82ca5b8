import { useState } from "react";

/** Texts that the reader's browser keeps under a name; none at first. What it keeps for somebody else, or cannot keep, is no matter. */
export function useKept(name: string): [string[], (texts: string[]) => void] {
  const [texts, setTexts] = useState<string[]>(() => {
    try {
      const kept: unknown = JSON.parse(localStorage.getItem(name) ?? "[]");
      return Array.isArray(kept) ? kept.map(String) : [];
    } catch {
      return []; // not written by this
    }
  });
  const keep = (next: string[]) => {
    setTexts(next);
    try {
      localStorage.setItem(name, JSON.stringify(next));
    } catch {
      // the browser keeps nothing: it is so until the page is left
    }
  };
  return [texts, keep];
}
