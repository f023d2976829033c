import assert from "node:assert/strict";
import { test } from "node:test";
import { crossingNear, stepAt } from "../js/grid.js";

test("the step is round in the unit that is read, and no narrower than fourteen pixels", () => {
  assert.equal(stepAt(10, 1), 2);
  assert.equal(stepAt(14, 1), 1);
  assert.ok(Math.abs(stepAt(10, 1 / 25.4) - 0.1 * 25.4) < 1e-9);
});

test("a place is caught by the nearest crossing", () => {
  assert.deepEqual(crossingNear([4.9, -2.1], 2), [4, -2]);
});
