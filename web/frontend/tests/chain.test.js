import assert from "node:assert/strict";
import { test } from "node:test";
import { chainOf } from "../js/chain.js";

const line = (id, ...points) => ({ id, kind: "line", points, construction: false });

test("a chain goes on as far as no more than two curves meet", () => {
  const curves = [
    line("c1", "a", "b"),
    { id: "c2", kind: "arc", points: ["m", "b", "c"], construction: false },
    line("c3", "c", "d"),
    line("c4", "c", "e"),
    { id: "c5", kind: "circle", points: ["a"], construction: false },
    { ...line("c6", "a", "z"), construction: true },
  ];
  assert.deepEqual(chainOf("c1", curves).sort(), ["c1", "c2"]);
  assert.deepEqual(chainOf("c3", curves), ["c3"]);
  assert.deepEqual(chainOf("c5", curves), ["c5"]);
});
