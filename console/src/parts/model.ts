/** What a model is called: its maker and its own name, as the firmware tells them; nothing if it tells neither. */
export const modelOf = (w: { maker: string; model: string }) => `${w.maker} ${w.model}`.trim();

/** Where the page of a model is. Names of models may have any letter in them. */
export const modelPath = (model: string) => `/models?name=${encodeURIComponent(model)}`;
