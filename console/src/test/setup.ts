import { cleanup, configure } from "@testing-library/react";
import { afterEach, vi } from "vitest";

configure({ asyncUtilTimeout: 60_000 }); // a busy machine is slow, and no worse for it

// What jsdom has not, and Ant Design asks for.
vi.stubGlobal("matchMedia", (query: string) => ({ matches: false, media: query, addListener: () => undefined, removeListener: () => undefined, addEventListener: () => undefined, removeEventListener: () => undefined }));
vi.stubGlobal(
  "ResizeObserver",
  class {
    observe() {}
    unobserve() {}
    disconnect() {}
  },
);

afterEach(() => {
  cleanup();
  localStorage.clear();
});
