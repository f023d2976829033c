import assert from "node:assert/strict";
import { test } from "node:test";

import { merged } from "../js/merging.js";
import { unpack } from "../js/mesh.js";
import { poseOf } from "../js/pose.js";

test("a picture's pose takes pixels to the plane and back", () => {
  for (let turn = 0; turn < 40; turn++) {
    const { toWorld, toPx, matrix } = poseOf({ angle: 0.37 * turn, flipped: turn % 2 === 1 });
    const place = [13.5 * turn - 80, 400 - 7.25 * turn];
    const there = toWorld(place);
    toPx(there).forEach((value, axis) => assert.ok(Math.abs(value - place[axis]) < 1e-9));
    const [a, b, c, d, e, f] = matrix;
    const byMatrix = [a * place[0] + c * place[1] + e, b * place[0] + d * place[1] + f];
    byMatrix.forEach((value, axis) => assert.ok(Math.abs(value - there[axis]) < 1e-9));
  }
});

test("a difference brings what a page shows up to date", () => {
  const before = { curves: [{ id: "c1" }, { id: "c2", d: "old" }, { id: "c3" }], regions: [{ id: "r" }] };
  const put = [{ id: "c2", d: "new" }, { id: "c9" }];
  const now = merged(before, { curves: { put, gone: ["c1"] }, regions: { put: [], gone: [] } });
  assert.deepEqual(now, { curves: [{ id: "c2", d: "new" }, { id: "c3" }, { id: "c9" }], regions: [{ id: "r" }] });
  assert.equal(before.curves[1].d, "old");
});

test("a packed mesh is taken apart", () => {
  const head = { bodies: [{ name: "b1", points: { type: "float32", offset: 0, count: 3 }, faces: ["top"] }] };
  let text = JSON.stringify(head);
  text += " ".repeat((4 - (text.length % 4)) % 4);
  const data = new ArrayBuffer(4 + text.length + 12);
  new DataView(data).setUint32(0, text.length, true);
  new Uint8Array(data).set(new TextEncoder().encode(text), 4);
  new Float32Array(data, 4 + text.length).set([1, 2.5, -3]);
  const [body] = unpack(data);
  assert.deepEqual([body.name, body.faces, [...body.points]], ["b1", ["top"], [1, 2.5, -3]]);
});
