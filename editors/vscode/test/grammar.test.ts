import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import { test } from "node:test";
import * as oniguruma from "vscode-oniguruma";
import { INITIAL, Registry, parseRawGrammar } from "vscode-textmate";

const root = join(__dirname, "..", "..");

async function grammar() {
  const wasm = readFileSync(require.resolve("vscode-oniguruma/release/onig.wasm"));
  await oniguruma.loadWASM(wasm.buffer.slice(wasm.byteOffset, wasm.byteOffset + wasm.byteLength));
  const file = join(root, "syntaxes", "yieldtray.tmLanguage.json");
  const registry = new Registry({
    onigLib: Promise.resolve({
      createOnigScanner: (patterns) => new oniguruma.OnigScanner(patterns),
      createOnigString: (text) => new oniguruma.OnigString(text),
    }),
    loadGrammar: async () => parseRawGrammar(readFileSync(file, "utf8"), file),
  });
  const loaded = await registry.loadGrammar("source.yieldtray");
  assert.ok(loaded);
  return loaded;
}

test("a request file is coloured by what its lines are", async () => {
  const loaded = await grammar();
  const text = [
    "# The gate.",
    "%% Book in",
    "% let season = 2026",
    "POST /lots/{{lot_id}} HTTP/1.1",
    "Accept: application/json",
    "",
    '{ "grower": "{{grower}}", "bins": 24 }',
    "",
    '% check body.bins == 24 else "short?"',
  ];
  let state = INITIAL;
  const found = new Map<string, string>();
  for (const line of text) {
    const { tokens, ruleStack } = loaded.tokenizeLine(line, state);
    state = ruleStack;
    for (const token of tokens) {
      found.set(line.slice(token.startIndex, token.endIndex).trim(), token.scopes[token.scopes.length - 1]);
    }
  }
  const expected: [string, string][] = [
    ["# The gate.", "comment.line.number-sign.yieldtray"],
    ["Book in", "entity.name.section.yieldtray"],
    ["let", "keyword.control.yieldtray"],
    ["2026", "constant.numeric.yieldtray"],
    ["POST", "entity.name.function.method.yieldtray"],
    ["lot_id", "variable.other.yieldtray"],
    ["HTTP/1.1", "constant.other.version.yieldtray"],
    ["Accept", "support.type.property-name.yieldtray"],
    ['"grower"', "support.type.property-name.json.yieldtray"],
    ["grower", "variable.other.yieldtray"],
    ["body", "variable.language.yieldtray"],
    ["else", "keyword.other.yieldtray"],
    ['"short?"', "string.quoted.yieldtray"],
  ];
  for (const [piece, scope] of expected) {
    assert.equal(found.get(piece), scope, piece);
  }
});

test("what the extension names is there", () => {
  const manifest = JSON.parse(readFileSync(join(root, "package.json"), "utf8"));
  const source = readFileSync(join(root, "src", "extension.ts"), "utf8");
  const named = /const COMMANDS = \[(.*)\]/.exec(source)?.[1] ?? "";
  for (const { command } of manifest.contributes.commands) {
    const name = command.replace("yieldtray.here.", "");
    assert.ok(named.includes(`"${name}"`) || source.includes(`registerCommand("${command}"`), command);
  }
  for (const { path } of manifest.contributes.grammars) {
    JSON.parse(readFileSync(join(root, path), "utf8"));
  }
  JSON.parse(readFileSync(join(root, "language-configuration.json"), "utf8"));
});
