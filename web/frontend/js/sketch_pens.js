// Drawing tools: each collects places, shows a rubber band, and sends one command.

const far = (a, b) => Math.hypot(a[0] - b[0], a[1] - b[1]);
const polyline = (places) => "M" + places.map((place) => place.join(" ")).join("L");

function circlePath(center, radius) {
  const [x, y] = center;
  return `M${x + radius} ${y}A${radius} ${radius} 0 0 1 ${x - radius} ${y}A${radius} ${radius} 0 0 1 ${x + radius} ${y}Z`;
}

/** An ellipse from its centre, the end of one axis and a place as far off that axis as it reaches. */
function ellipsePath(center, tip, place) {
  const [x, y] = [tip[0] - center[0], tip[1] - center[1]];
  const reach = Math.max(Math.hypot(x, y), 1e-9);
  const other = Math.abs(x * (place[1] - center[1]) - y * (place[0] - center[0])) / reach;
  const far = [2 * center[0] - tip[0], 2 * center[1] - tip[1]];
  const half = `A${reach} ${other} ${(Math.atan2(y, x) * 180) / Math.PI} 0 1`;
  return `M${tip.join(" ")}${half} ${far.join(" ")}${half} ${tip.join(" ")}Z`;
}

/** The ellipse about a centre with an axis through a place, cut to the arc between two others when these are there. */
function ovalArcPath(center, tip, start, end) {
  const reach = Math.max(far(center, tip), 1e-9);
  const [ux, uy] = [(tip[0] - center[0]) / reach, (tip[1] - center[1]) / reach];
  const own = ([x, y]) => [(x - center[0]) * ux + (y - center[1]) * uy, (y - center[1]) * ux - (x - center[0]) * uy];
  const [along, off] = own(start);
  if (Math.abs(along) >= reach || Math.abs(off) < 1e-9) return polyline([center, start]);
  const other = Math.abs(off) / Math.sqrt(1 - (along / reach) ** 2);
  if (!end) return ellipsePath(center, tip, [center[0] - uy * other, center[1] + ux * other]);
  const at = (place) => Math.atan2(own(place)[1] / other, own(place)[0] / reach);
  const sweep = (at(end) - at(start) + 4 * Math.PI) % (2 * Math.PI);
  const [c, s] = [Math.cos(at(end)) * reach, Math.sin(at(end)) * other];
  const stop = [center[0] + c * ux - s * uy, center[1] + c * uy + s * ux];
  const shape = `A${reach} ${other} ${(Math.atan2(uy, ux) * 180) / Math.PI} ${sweep > Math.PI ? 1 : 0} 1`;
  return `M${start.join(" ")}${shape} ${stop.join(" ")}`;
}

/** A rough arc through three places, only to look at while drawing. */
function arcPath(start, end, middle) {
  const [[x0, y0], [x1, y1], [x2, y2]] = [start, middle, end];
  const double = 2 * ((x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0));
  if (Math.abs(double) < 1e-9) return polyline([start, end]);
  const [a, b] = [(x1 - x0) ** 2 + (y1 - y0) ** 2, (x2 - x0) ** 2 + (y2 - y0) ** 2];
  const [x, y] = [((y2 - y0) * a - (y1 - y0) * b) / double, ((x1 - x0) * b - (x2 - x0) * a) / double];
  const radius = Math.hypot(x, y);
  const center = [x0 + x, y0 + y];
  const angle = (p) => Math.atan2(p[1] - center[1], p[0] - center[0]);
  const turn = (from, to) => (((to - from) % (2 * Math.PI)) + 2 * Math.PI) % (2 * Math.PI);
  const counter = turn(angle(start), angle(middle)) < turn(angle(start), angle(end));
  const sweep = counter ? turn(angle(start), angle(end)) : turn(angle(end), angle(start));
  return `M${start.join(" ")}A${radius} ${radius} 0 ${sweep > Math.PI ? 1 : 0} ${counter ? 1 : 0} ${end.join(" ")}`;
}

/** @param {any} parts */
export function createPens({ board, drawing, caught, grid, command, send: ask, tell, say, unit }) {
  const STICK_PX = 12;
  let busy = false;
  let again = null;
  let edge = "";
  let name = null;
  let taken = [];
  let here = null;
  let free = false;
  let turn = Promise.resolve();

  const placeOf = (item) => (item.point ? [item.point.x, item.point.y] : item.place);
  const sent = (item) => (item.point ? item.point.id : item.place);

  const PENS = {
    line: {
      full: 2,
      typed: "Length, angle",
      next: ["Click the other end, or type the length, and after a comma the angle."],
      show: (places) => [polyline(places)],
      async send(items, sizes) {
        const done = await command("sketch.line", { start: sent(items[0]), end: sent(items[1]), free, sizes, unit });
        if (!done) return [];
        const ends = drawing.data.shapes.curves.at(-1)?.points;
        const end = drawing.data.shapes.points.find((point) => point.id === (items[1].point?.id ?? ends?.[1]));
        tell("Click the next end; Esc ends the chain.");
        return items[1].point ? [] : end ? [{ point: end }] : [];
      },
    },
    arc: {
      full: 3,
      next: ["Click where the arc ends.", "Click a place on the arc, between its ends."],
      show: (places) => [places.length < 3 ? polyline(places) : arcPath(...places)],
      send: async (items) => {
        await command("sketch.arc", { start: sent(items[0]), end: sent(items[1]), middle: sent(items[2]) });
        return [];
      },
    },
    circle: {
      full: 2,
      typed: "Diameter",
      next: ["Click a place on the rim, or type the diameter."],
      show: ([center, rim]) => [circlePath(center, far(center, rim)), polyline([center, rim])],
      send: async (items, sizes) => {
        await command("sketch.circle", { center: sent(items[0]), rim: sent(items[1]), sizes, unit });
        return [];
      },
    },
    ellipse: {
      full: 3,
      next: ["Click the end of one axis.", "Click a place as far from that axis as the ellipse reaches."],
      show: (places) => [places.length < 3 ? polyline(places) : ellipsePath(...places), polyline(places.slice(0, 2))],
      send: async (items) => {
        await command("sketch.ellipse", { center: sent(items[0]), first: sent(items[1]), second: sent(items[2]) });
        return [];
      },
    },
    "oval-arc": {
      full: 4,
      next: [
        "Click the end of one axis.",
        "Click where the arc begins, off that axis.",
        "Click where it ends; it runs counter-clockwise.",
      ],
      show: (places) => [polyline(places.slice(0, 2)), ...(places.length > 2 ? [ovalArcPath(...places)] : [])],
      send: async (items) => {
        const [center, tip, start, end] = items.map(sent);
        await command("sketch.elliptical_arc", { center, tip, start, end });
        return [];
      },
    },
    spline: {
      full: Infinity,
      next: ["Click the next place along the curve.", "Click on, or press Enter to end the spline."],
      show: (places) => [polyline(places)],
      send: async (items) => {
        await command("sketch.spline", { places: items.map(sent) });
        return [];
      },
    },
    rectangle: {
      full: 2,
      typed: "Width, height",
      next: ["Click the opposite corner, or type width and height with a comma between."],
      show: ([a, b]) => [polyline([a, [b[0], a[1]], b, [a[0], b[1]], a])],
      async send([first, second], sizes) {
        await command("sketch.rectangle", { first: sent(first), second: sent(second), sizes, unit });
        return [];
      },
    },
    follow: {
      full: 2,
      next: ["Move along the edge and click where to stop; the way that is followed is shown."],
      show: () => [],
      async send(items) {
        edge = "";
        const done = await command("sketch.follow", { start: sent(items[0]), end: sent(items[1]) });
        const last = done && nearestPoint(drawing.data.shapes.points, placeOf(items[1]));
        if (last) tell("Click the next place on the edge; Esc ends.");
        return last ? [{ point: last }] : [];
      },
    },
    "arc-edge": {
      full: 3,
      next: ["Click where the round edge ends.", "Click a place on the edge, between its ends."],
      show: (places) => [places.length < 3 ? polyline(places) : arcPath(...places)],
      send: async (items) => {
        await command("sketch.arc_edge", { start: sent(items[0]), end: sent(items[1]), middle: sent(items[2]) });
        return [];
      },
    },
    round: {
      full: 1,
      show: () => [],
      send: async (items) => {
        await command("sketch.round", { place: sent(items[0]) });
        return [];
      },
    },
  };

  /** The end that a curve got nearest to a place. */
  function nearestPoint(points, place) {
    return points
      .filter((point) => point.role === "end")
      .sort((a, b) => far([a.x, a.y], place) - far([b.x, b.y], place))[0];
  }

  /** One question at a time while the pointer moves; only the newest waits. @param {() => Promise<void>} question */
  async function newest(question) {
    if (busy) {
      again = question;
      return;
    }
    busy = true;
    try {
      await question();
    } catch (problem) {
      say(problem.message, true);
    }
    busy = false;
    const next = again;
    again = null;
    if (next) newest(next);
  }

  /** Where the picture's edge is near a place, or null. @param {number[]} place */
  async function onEdge(place) {
    const { place: found } = await ask("sketch/stick", { x: place[0], y: place[1], reach: STICK_PX / board.view.zoom });
    return found;
  }

  const sticks = () => name !== "round" && drawing.data.pictures?.length > 0;

  /** What has caught the pointer, in words. */
  const reason = () => (here?.point ? { center: "centre", end: "end" }[here.point.role] || "point" : here?.edge || "");

  function redraw() {
    if (!name) return drawing.sketchOut([], null);
    if (name === "follow")
      return drawing.sketchOut(edge && taken.length ? [edge] : [], here ? placeOf(here) : null, reason());
    const places = [...taken.map(placeOf), ...(here && taken.length ? [placeOf(here)] : [])];
    drawing.sketchOut(
      places.length > 1 ? PENS[name].show(places) : [],
      here?.point || here?.edge ? placeOf(here) : null,
      reason(),
    );
  }

  function look(event) {
    const place = board.at(event);
    free = event.altKey;
    const point = caught(place, event.altKey);
    const crossing = point || free ? null : grid.catches(place);
    here = point ? { point } : crossing ? { place: crossing, edge: "grid" } : { place };
    redraw();
    if (event.type === "pointermove" && !point && !crossing && !free && sticks()) newest(() => hoverEdge(place));
  }

  /** What the next click would take, shown while the pointer rests. */
  async function hoverEdge(place) {
    const mine = name;
    const found = await onEdge(place);
    if (name !== mine) return;
    if (found) here = { place: found, edge: "edge of the picture" };
    if (name === "follow" && taken.length && here) {
      const [from, to] = [placeOf(taken[0]), placeOf(here)];
      if (far(from, to) * board.view.zoom > 6)
        edge = await ask("sketch/follow", { x0: from[0], y0: from[1], x1: to[0], y1: to[1] }).then(
          (answer) => answer.d,
          () => "",
        );
    }
    redraw();
  }

  /** Clicks are taken one after the other, however long the answer to one takes. @param {() => any} action */
  function inTurn(action) {
    turn = turn.then(action).catch((problem) => say(problem.message, true));
  }

  async function take(item, mine, asDrawn) {
    if (name !== mine) return;
    let place = item;
    if (!item.point && !item.edge && !asDrawn && sticks()) {
      const found = await onEdge(item.place);
      if (name !== mine) return;
      if (found) place = { place: found, edge: true };
    }
    taken.push(place);
    redraw();
    if (taken.length >= PENS[name].full) return send();
    const next = PENS[name].next;
    tell(next ? next[Math.min(taken.length, next.length) - 1] : "Click the other end.");
  }

  /** @param {string[]} [sizes] what was typed in place of the last click */
  async function send(sizes = []) {
    const items = taken;
    taken = [];
    here = null;
    taken = await PENS[name].send(items, sizes);
    redraw();
  }

  return {
    has: (tool) => tool in PENS,
    active: () => name !== null,
    put(tool) {
      name = tool;
      taken = [];
      here = null;
      redraw();
    },
    hover: look,
    click(event) {
      look(event);
      const [item, mine, asDrawn] = [here, name, free];
      inTurn(() => take(item, mine, asDrawn));
    },
    /** What may be typed now in place of the next click, or "". */
    get typed() {
      return name && taken.length === PENS[name].full - 1 ? (PENS[name].typed ?? "") : "";
    },
    /** Take sizes in place of the last click; the pointer tells which way. @param {string[]} sizes */
    type(sizes) {
      const [x, y] = placeOf(taken[0]);
      const toward = here && far(placeOf(here), [x, y]) > 1e-6 ? placeOf(here) : [x + 1, y + 1];
      inTurn(() => {
        taken.push({ place: toward });
        return send(sizes);
      });
    },
    finish() {
      if (name !== "spline") return;
      inTurn(() => (taken.length < 2 ? say("A spline needs at least two places; click one more.", true) : send()));
    },
  };
}
