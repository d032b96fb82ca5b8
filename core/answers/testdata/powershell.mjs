// Says where a PowerShell script is none, by a grammar that others have written:
//   node --liftoff-only powershell.mjs < SCRIPT   # compiling the grammar well takes half a minute
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";

const { resolve } = createRequire(new URL("../../../console/package.json", import.meta.url));
const { Parser, Language } = createRequire(import.meta.url)(resolve("@vscode/tree-sitter-wasm/wasm/tree-sitter.js"));
await Parser.init();
const parser = new Parser();
parser.setLanguage(await Language.load(resolve("@vscode/tree-sitter-wasm/wasm/tree-sitter-powershell.wasm")));
const text = readFileSync(0, "utf8");
let wrong = 0;
const walk = (node) => {
  if (node.isError || node.isMissing) {
    wrong++;
    console.log(`line ${node.startPosition.row + 1}: ${node.isMissing ? `${node.type} is missing` : JSON.stringify(node.text.slice(0, 80))}`);
    return;
  }
  node.children.forEach(walk);
};
walk(parser.parse(text).rootNode);
process.exit(wrong ? 1 : 0);
