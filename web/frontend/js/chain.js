// Curves that follow one another, without a page.

/** Points at which a curve ends. @param {any} curve @returns {string[]} */
const endsOf = (curve) =>
  curve.kind === "circle" || curve.kind === "ellipse"
    ? []
    : curve.kind === "arc"
      ? curve.points.slice(1)
      : [curve.points[0], curve.points.at(-1)];

/**
 * Ids of a curve and of all that hang on it end to end, as far as no more than two meet.
 * @param {string} id
 * @param {any[]} curves
 * @returns {string[]}
 */
export function chainOf(id, curves) {
  /** @type {Map<string, string[]>} */
  const at = new Map();
  const byId = new Map(curves.map((curve) => [curve.id, curve]));
  for (const curve of curves)
    if (!curve.construction) for (const point of endsOf(curve)) at.set(point, [...(at.get(point) ?? []), curve.id]);
  const found = new Set([id]);
  const waiting = [id];
  while (waiting.length) {
    const curve = byId.get(waiting.pop());
    for (const point of curve ? endsOf(curve) : []) {
      const there = at.get(point) ?? [];
      if (there.length !== 2) continue;
      for (const other of there)
        if (!found.has(other)) {
          found.add(other);
          waiting.push(other);
        }
    }
  }
  return [...found];
}
