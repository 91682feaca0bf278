// Writes the tests of the specification to standard output: a JSON array of tests, each with the names of the suites
// around it.
import { tests } from "@bufbuild/cel-spec/testdata/conformance.js";

const found = [];

const add = (suite, path) => {
  for (const inner of suite.suites ?? []) {
    add(inner, [...path, inner.name]);
  }
  for (const test of suite.tests ?? []) {
    found.push({ path: [...path, test.original.name].join("/"), ...test.original });
  }
};

add(tests, []);
const text = JSON.stringify(found, (_, value) => (typeof value === "bigint" ? String(value) : value));
process.stdout.write(text);
