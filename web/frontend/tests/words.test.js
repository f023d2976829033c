import assert from "node:assert/strict";
import { test } from "node:test";

import { clauses, cornerWords, edgeWords, isEmpty, standing } from "../js/words.js";

test("edges and corners are called by the faces that meet in them", () => {
  const numbers = { op1: 1, op2: 2 };
  assert.equal(edgeWords("op1.side(c1) | op1.top", numbers), "edge between side and top of 1");
  assert.equal(edgeWords("op1.top | op2.wall(c9) #2", numbers), "edge between top of 1 and wall of 2");
  assert.equal(edgeWords("op1.side(c1) | op7.top", numbers), "edge between side of 1 and top of ?");
  const corner = cornerWords("op1.side(c1) | op1.side(c2) | op1.top @ op2.wall(c9)", numbers);
  assert.equal(corner, "corner of side, side and top of 1");
});

test("a blank is empty until enough stands in it", () => {
  for (const value of [undefined, null, "", { names: [] }, [{}, {}]]) assert.ok(isEmpty(value), JSON.stringify(value));
  for (const value of ["4 mm", { names: ["c1"] }, { names: [], rule: { at: "top" } }, [{}, {}, {}]])
    assert.ok(!isEmpty(value), JSON.stringify(value));
});

test("parts stand by what was chosen, and clauses once they are filled", () => {
  const length = { blank: "length" };
  const draft = { clause: "draft", first: "angle", parts: [{ blank: "angle" }] };
  const parts = [{ blank: "extent" }, { when: "extent", values: ["by"], parts: [length, draft] }];
  const blanks = (filled) => standing(parts, filled).map((part) => part.blank);
  assert.deepEqual(blanks({ extent: "through" }), ["extent"]);
  assert.deepEqual(blanks({ extent: "by" }), ["extent", "length"]);
  assert.deepEqual(blanks({ extent: "by", angle: "3°" }), ["extent", "length", "angle"]);
  assert.deepEqual(clauses(parts, { extent: "by" }), [draft]);
  assert.deepEqual(clauses(parts, { extent: "through" }), []);
});
