import assert from "node:assert/strict";
import { test } from "node:test";
import { Question, about, isAnswer, startFailure, startOptions, formOf } from "../src/pure";

const question: Question = { kind: "text", name: "bins", question: "How many bins?", secret: false, default: null, choices: [] };

test("a question is put as it can be answered", () => {
  assert.deepEqual(formOf({ ...question, choices: ["12", "24"] }), { kind: "pick", items: ["12", "24"], title: "How many bins?" });
  assert.deepEqual(formOf({ ...question, kind: "confirm", choices: ["Send to live", "Do not send"] }), {
    kind: "confirm", message: "How many bins?", yes: "Send to live",
  });
  assert.deepEqual(formOf({ ...question, default: "24" }), { kind: "type", prompt: "How many bins?", value: "24", password: false });
  assert.deepEqual(formOf({ ...question, secret: true }), { kind: "type", prompt: "How many bins?", value: "", password: true });
});

test("the server knows that this client prompts", () => {
  assert.deepEqual(startOptions(false), { asks: true, hints: false });
});

test("responses are distinguished from prompts", () => {
  assert.ok(isAnswer("/api/.yieldtray/answers/requests/intake.http/look.txt"));
  assert.ok(isAnswer("\\api\\.yieldtray\\answers\\intake.http\\look.txt"));
  assert.ok(!isAnswer("/api/.yieldtray/questions.txt"));
  assert.ok(!isAnswer("/api/answers/intake.http"));
});

test("a program that is not there is named with its setting", () => {
  const missing = startFailure("yieldtray", "spawn yieldtray ENOENT");
  assert.ok(missing.settings && missing.message.includes('"yieldtray.program"'));
  assert.ok(!startFailure("yieldtray", "it ended with code 2").settings);
});

test("a request is named by its line, a file by itself", () => {
  assert.deepEqual(about("send", "file:///a.http", 3), { uri: "file:///a.http", line: 3 });
  assert.deepEqual(about("replay", "file:///a.http", 3), { uri: "file:///a.http" });
});
