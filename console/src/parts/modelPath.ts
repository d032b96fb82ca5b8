/** Where the page of a model is. Names of models are the firmware's, with any letter in them. */
export const modelPath = (model: string) => `/models?name=${encodeURIComponent(model)}`;
