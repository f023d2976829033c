// Draws a sketch on the Board: curves by weight, ends and arrows for what is free, dimensions, regions, findings.

import { shape } from "./board.js";
import { corner, head, round, straight } from "./arrows.js";
import { merged } from "./merging.js";

const FIRST_SHIFT = 34;
const NEXT_SHIFT = 26;

/** @param {import("./board.js").Board} board */
export function createDrawing(board) {
  let data = {
    version: -1,
    shapes: { curves: [], points: [], dimensions: [], constraints: [], regions: [] },
    findings: [],
  };
  let resting = data.shapes;
  let chosen = new Set();
  let rubber = [];
  let snap = null;
  let why = "";
  let comb = null;
  let behind = [];
  let picking = false;
  let instead = null;
  const above = [];
  const [drawn, pointed] = [shape("g", { class: "out" }), shape("g", { class: "out" })];

  const selected = (id) => (chosen.has(id) ? " sel" : "");

  function drawWorld() {
    const { curves } = data.shapes;
    const paths = behind.length
      ? [
          shape("path", {
            class: "behind",
            d: behind
              .filter((one) => !one.smooth)
              .map((one) => one.d)
              .join(""),
          }),
        ]
      : [];
    for (const region of data.shapes.regions)
      paths.push(
        shape("path", { class: "region show", d: region.d, "data-region": region.id, "pointer-events": "none" }),
      );
    for (const curve of curves) paths.push(shape("path", { class: "casing", d: curve.d }));
    for (const curve of curves) {
      if (chosen.has(curve.id)) paths.push(shape("path", { class: "halo", d: curve.d }));
      const going = instead?.gone.includes(curve.id) ? " going" : "";
      const kind = `curve${curve.bad ? " bad" : ""}${curve.construction ? " construction" : curve.free ? " free" : ""}${selected(curve.id)}${going}`;
      paths.push(shape("path", { class: kind, d: curve.d }));
    }
    for (const curve of curves) paths.push(shape("path", { class: "hit", d: curve.d, "data-curve": curve.id }));
    if (picking)
      for (const one of behind.filter((edge) => edge.canCome))
        paths.push(shape("path", { class: "hit edge", d: one.d, "data-edge": one.edge, "data-body": one.body }));
    if (comb)
      paths.push(
        shape("path", { class: "comb", d: comb.teeth.map(([x0, y0, x1, y1]) => `M${x0} ${y0}L${x1} ${y1}`).join("") }),
      );
    for (const d of instead?.paths ?? []) paths.push(shape("path", { class: "would-be", d }));
    board.world.replaceChildren(...paths, drawn);
  }

  /** What moves with the pointer, apart from the rest: what a click goes down on must still be there when it goes up. */
  function drawOut() {
    drawn.replaceChildren(...rubber.map((d) => shape("path", { class: "rubber", d })));
    pointed.replaceChildren();
    if (!snap) return;
    const [x, y] = board.toScreen(snap);
    pointed.append(shape("rect", { class: "snap", x: x - 6, y: y - 6, width: 12, height: 12 }));
    if (why) pointed.append(shape("text", { class: "snap-why", x: x + 11, y: y - 9 }, why));
  }

  function arrowsAt(point, [x, y]) {
    const ways =
      point.ways.length > 1
        ? [
            [1, 0],
            [0, 1],
          ]
        : point.ways;
    return ways.flatMap(([u, v]) =>
      [1, -1].flatMap((sense) => {
        const way = [u * sense, -v * sense];
        const tip = [x + way[0] * 17, y + way[1] * 17];
        return [
          shape("line", { class: "way", x1: x + way[0] * 6, y1: y + way[1] * 6, x2: tip[0], y2: tip[1] }),
          head(tip, way),
        ];
      }),
    );
  }

  function drawPoints(parts) {
    const handles = new Set(
      data.shapes.curves
        .filter((curve) => curve.kind === "spline" && curve.points.some((id) => chosen.has(id) || chosen.has(curve.id)))
        .flatMap((curve) => curve.points),
    );
    for (const point of data.shapes.points) {
      if (point.role === "handle" && !handles.has(point.id)) continue;
      const [x, y] = board.toScreen([point.x, point.y]);
      const free = point.ways.length > 0;
      if (point.role === "center") {
        parts.push(
          shape("path", {
            class: `end center${selected(point.id)}`,
            d: `M${x - 5} ${y}H${x + 5}M${x} ${y - 5}V${y + 5}`,
            stroke: "#17201D",
          }),
        );
      } else {
        parts.push(
          shape("circle", {
            class: `end ${point.role === "handle" ? "handle" : free ? "free" : ""}${selected(point.id)}`,
            cx: x,
            cy: y,
            r: free ? 3.6 : 3.1,
          }),
        );
      }
      if (chosen.has(point.id) && free) parts.push(...arrowsAt(point, [x, y]));
      parts.push(shape("circle", { class: "hit", cx: x, cy: y, r: 8, "data-point": point.id }));
    }
  }

  function outward(dimension, box) {
    const [a, b] = [board.toScreen(dimension.first), board.toScreen(dimension.second)];
    const way = [dimension.way[0], -dimension.way[1]];
    const side = [way[1], -way[0]];
    const middle = [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2];
    const center = [(box[0] + box[2]) / 2, (box[1] + box[3]) / 2];
    const lean = (middle[0] - center[0]) * side[0] + (middle[1] - center[1]) * side[1];
    return { a, b, way, side, sense: lean >= 0 ? 1 : -1 };
  }

  function drawDimensions(parts) {
    const box = screenBox();
    const used = new Map();
    for (const dimension of data.shapes.dimensions) {
      const group = shape("g", {
        class: `dim${dimension.driving ? "" : " reads"}${selected(dimension.id)}${dimension.source === "gauge" ? " known" : ""}`,
        "data-dimension": dimension.id,
      });
      if (dimension.shape === "round") {
        group.append(
          ...round(
            board.toScreen(dimension.center),
            dimension.radius * board.view.zoom,
            dimension.angle,
            dimension.label,
          ),
        );
      } else if (dimension.shape === "corner") {
        group.append(...corner(board.toScreen(dimension.center), dimension.angles, dimension.label));
      } else {
        const { a, b, way, side, sense } = outward(dimension, box);
        const level = (p) => p[0] * side[0] + p[1] * side[1];
        const key = `${Math.round(Math.abs(way[0]) * 10)} ${sense}`;
        const step = used.get(key) ?? 0;
        used.set(key, step + 1);
        const edge = sense > 0 ? Math.max(...corners(box).map(level)) : Math.min(...corners(box).map(level));
        const own = sense > 0 ? Math.max(level(a), level(b)) : Math.min(level(a), level(b));
        const outside = Math.abs(edge - own) + FIRST_SHIFT + step * NEXT_SHIFT;
        group.append(...straight(a, b, way, sense * outside, dimension.label));
      }
      parts.push(group);
    }
  }

  const corners = (/** @type {number[]} */ [left, top, right, low]) => [
    [left, top],
    [right, top],
    [right, low],
    [left, low],
  ];

  function screenBox() {
    const places = data.shapes.points.map((point) => board.toScreen([point.x, point.y]));
    for (const dimension of data.shapes.dimensions)
      if (dimension.shape === "straight") places.push(board.toScreen(dimension.first));
    if (!places.length) return [0, 0, 1, 1];
    const xs = places.map((place) => place[0]);
    const ys = places.map((place) => place[1]);
    return [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
  }

  function drawBeyond(parts) {
    for (const [x, y, off] of comb?.beyond ?? []) {
      const [u, v] = board.toScreen([x, y]);
      const group = shape("g", { class: "found" });
      group.append(
        shape("circle", { cx: u, cy: v, r: 13 }),
        shape("text", { x: u + 18, y: v + 4 }, `${Math.abs(off).toFixed(2)} mm off`),
      );
      parts.push(group);
    }
  }

  function drawFindings(parts) {
    const said = [];
    for (const finding of data.findings) {
      const [x, y] = board.toScreen(finding.place);
      const beside = said.filter(([u, v]) => Math.abs(u - x) < 60 && Math.abs(v - y) < 14).length;
      said.push([x, y]);
      const group = shape("g", { class: "found" });
      if (finding.code === "conflict") group.dataset.conflict = finding.of[0];
      group.append(
        shape("circle", { cx: x, cy: y, r: 13 }),
        shape(
          "text",
          { x: x + 18, y: y + 4 + 15 * beside },
          finding.code === "gap" ? `gap ${finding.size.toFixed(2)} mm` : finding.code,
        ),
      );
      parts.push(group);
    }
  }

  /** Constraints of what is chosen, in words beside it. */
  function drawWords(parts) {
    const lines = data.shapes.constraints.filter((item) => item.of.some((id) => chosen.has(id)) || chosen.has(item.id));
    if (!lines.length) return;
    const [width] = board.size;
    const text = lines.slice(0, 8).map((item) => item.words);
    if (lines.length > 8) text.push(`and ${lines.length - 8} more`);
    const wide = Math.max(...text.map((one) => one.length)) * 6.4 + 44;
    const group = shape("g", { class: "words", transform: `translate(${width - wide - 14} 48)` });
    group.append(shape("rect", { x: 0, y: 0, width: wide, height: text.length * 20 + 10 }));
    text.forEach((one, index) => {
      group.append(shape("text", { x: 10, y: index * 20 + 20 }, one));
      const id = lines[index]?.id;
      if (index < 8 && id) {
        const cross = shape(
          "text",
          {
            x: wide - 22,
            y: index * 20 + 20,
            "data-untie": id,
            role: "button",
            "aria-label": `Delete ${one}`,
            cursor: "pointer",
          },
          "✕",
        );
        group.append(cross);
      }
    });
    parts.push(group);
  }

  function drawScreen() {
    const parts = [];
    drawDimensions(parts);
    drawPoints(parts);
    drawFindings(parts);
    drawBeyond(parts);
    drawWords(parts);
    board.screen.replaceChildren(...parts, pointed, ...above);
    drawOut();
  }

  board.onView(drawScreen);
  return {
    /** The edges of the solid behind the sketch. @param {{ body: string, edge: string, d: string, smooth: boolean }[]} edges */
    setBehind(edges) {
      behind = edges;
      drawWorld();
    },
    /** Let edges of the solid be clicked, or not any more. @param {boolean} on */
    pickBehind(on) {
      picking = on;
      drawWorld();
    },
    get data() {
      return data;
    },
    get chosen() {
      return chosen;
    },
    /** @param {any} fresh */
    show(fresh) {
      data = { ...data, ...fresh, shapes: fresh.since === null ? fresh.shapes : merged(resting, fresh.shapes) };
      resting = data.shapes;
      drawWorld();
      drawScreen();
    },
    /**
     * While something is dragged: what lies elsewhere than at rest.
     * @param {{ curves: Record<string, string>, points: Record<string, number[]>, dimensions: any[] }} moved
     */
    move(moved) {
      const told = new Map(moved.dimensions.map((dimension) => [dimension.id, dimension]));
      data = {
        ...data,
        shapes: {
          ...resting,
          curves: resting.curves.map((curve) =>
            curve.id in moved.curves ? { ...curve, d: moved.curves[curve.id] } : curve,
          ),
          points: resting.points.map((point) =>
            point.id in moved.points ? { ...point, x: moved.points[point.id][0], y: moved.points[point.id][1] } : point,
          ),
          dimensions: resting.dimensions.map((dimension) => told.get(dimension.id) ?? dimension),
        },
      };
      drawWorld();
      drawScreen();
    },
    /** @param {Iterable<string>} ids */
    choose(ids) {
      chosen = new Set(ids);
      drawWorld();
      drawScreen();
    },
    /**
     * Path data of what is being drawn, the caught place, and what caught it.
     * @param {string[]} paths @param {number[] | null} caught @param {string} [reason]
     */
    sketchOut(paths, caught, reason = "") {
      rubber = paths;
      snap = caught;
      why = reason;
      drawOut();
    },
    /**
     * What an edit that is being written would draw, and which curves it takes the place of; null for nothing.
     * @param {{ paths: string[], gone: string[] } | null} found
     */
    wouldBe(found) {
      instead = found;
      drawWorld();
    },
    /** Something that is drawn on top by itself. @param {SVGElement} group */
    above(group) {
      above.push(group);
      drawScreen();
    },
    /** Teeth and worst places of the departure from the picture's edge, or null for none. @param {any} found */
    comb(found) {
      comb = found;
      drawWorld();
      drawScreen();
    },
    point: (id) => data.shapes.points.find((point) => point.id === id),
    curve: (id) => data.shapes.curves.find((curve) => curve.id === id),
    dimension: (id) => data.shapes.dimensions.find((dimension) => dimension.id === id),
  };
}
