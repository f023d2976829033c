// How the picture lies on the Reference Board: pixels to the Board's plane and back, turned and flipped as it will lie in the sketch.

/** @param {{ angle: number, flipped: boolean }} picture */
export function poseOf({ angle, flipped }) {
  const [cos, sin, sense] = [Math.cos(angle), Math.sin(angle), flipped ? -1 : 1];
  const toWorld = (/** @type {number[]} */ [x, y]) => [sense * (cos * x - sin * y), -sin * x - cos * y];
  const toPx = (/** @type {number[]} */ [x, y]) => [cos * sense * x - sin * y, -sin * sense * x - cos * y];
  return { toWorld, toPx, matrix: [sense * cos, -sin, -sense * sin, -cos, 0, 0] };
}
