// The document's content security policy lets in styles that have its nonce (Content Security Policy level 3).
// Ant Design can be told it, and writes some of its styles without all the same, so it is given where the
// elements are made.
const nonce = document.querySelector<HTMLElement>("meta[property=csp-nonce]")?.nonce ?? "";
const create = document.createElement.bind(document);

document.createElement = (name: string, options?: ElementCreationOptions) => {
  const element = create(name, options);
  if (element instanceof HTMLStyleElement) element.nonce = nonce;
  return element;
};
