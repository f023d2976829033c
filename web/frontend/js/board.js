// The Board: a view onto a plane with y up, its picture, its rulers; pointing in, drawing out.

import { followDrag, followView } from "./gestures.js";
import { startKeyPoint } from "./keypoint.js";

const RULER = 24;
const INK = "#17201D";
const SVG = "http://www.w3.org/2000/svg";
const SMALLEST_STEP_PX = 44;

/** An SVG element with attributes. @param {string} name @param {Record<string, any>} attributes @param {string} [text] */
export function shape(name, attributes, text) {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes))
    if (value !== undefined && value !== null) element.setAttribute(key, value);
  if (text !== undefined) element.textContent = text;
  return element;
}

/** Round steps of a ruler: 1, 2 or 5 times a power of ten. @param {number} least */
export function roundStep(least) {
  const power = 10 ** Math.floor(Math.log10(least));
  const share = least / power;
  return (share <= 1 ? 1 : share <= 2 ? 2 : share <= 5 ? 5 : 10) * power;
}

export class Board {
  /** @param {HTMLElement} element */
  constructor(element) {
    this.element = element;
    this.svg = element.querySelector("svg.drawing");
    this.canvas = element.querySelector("canvas.picture");
    this.rulerCanvas = element.querySelector("canvas.rulers");
    this.world = this.svg.appendChild(shape("g", {}));
    this.screen = this.svg.appendChild(shape("g", {}));
    this.view = { x: 0, y: 0, zoom: 1 };
    this.ruler = { scale: 1, origin: [0, 0], word: "px", y: 1 };
    this.pointer = null;
    /** Whether a drag on bare ground moves the view. @type {((event: PointerEvent) => boolean) | null} */
    this.mayPan = null;
    /** Pixels at the right that a list covers. */
    this.beside = 0;
    this.watchers = [];
    this.box = null;
    new ResizeObserver(() => this.resize()).observe(element);
    followView(this.svg, {
      zoom: (factor, pixel) => this.zoomBy(factor, pixel),
      shift: (dx, dy) => this.panBy(dx, dy),
      moved: () => {
        this.panned = true;
      },
    });
    followDrag(this.svg, {
      begin: (event) => {
        const bare = event.button === 0 && event.target === this.svg && this.mayPan?.(event);
        if (bare || event.button === 1) this.panned = false;
        return (bare || event.button === 1) && { at: [event.clientX, event.clientY] };
      },
      move: (held, event) => {
        this.panned = true;
        this.panBy(event.clientX - held.at[0], event.clientY - held.at[1]);
        held.at = [event.clientX, event.clientY];
      },
      still: 2,
    });
    startKeyPoint(this.svg, (pixel) => this.inWords(this.toWorld(pixel)));
    this.svg.addEventListener("pointermove", (event) => {
      this.pointer = this.at(event);
      this.drawRulers();
    });
    this.resize();
  }

  get size() {
    return [this.element.clientWidth - RULER, this.element.clientHeight - RULER];
  }

  /** Called after every change of the view. @param {() => void} then */
  onView(then) {
    this.watchers.push(then);
  }

  /** @param {number[]} place */
  toScreen([x, y]) {
    const { zoom } = this.view;
    return [(x - this.view.x) * zoom, (this.view.y - y) * zoom];
  }

  /** @param {number[]} place */
  toWorld([x, y]) {
    const { zoom } = this.view;
    return [this.view.x + x / zoom, this.view.y - y / zoom];
  }

  /** A place as the rulers tell it. @param {number[]} place */
  inWords(place) {
    const { scale, origin, word, y: sense } = this.ruler;
    const [x, y] = [(place[0] - origin[0]) * scale, (place[1] - origin[1]) * scale * sense];
    return `${x.toFixed(2)}, ${y.toFixed(2)} ${word}`;
  }

  /** Place of a pointer event in the plane. @param {MouseEvent} event */
  at(event) {
    return this.toWorld(this.pixel(event));
  }

  /** @param {MouseEvent} event */
  pixel(event) {
    const box = this.svg.getBoundingClientRect();
    return [event.clientX - box.left, event.clientY - box.top];
  }

  /** Show a box of the plane with some room around it. @param {[number, number, number, number]} box */
  fit(box, room = 0.12) {
    this.box = box;
    const [width, height] = [this.size[0] - this.beside, this.size[1]];
    const [left, low, right, high] = box;
    const zoom = Math.min(
      width / Math.max((right - left) * (1 + 2 * room), 1e-6),
      height / Math.max((high - low) * (1 + 2 * room), 1e-6),
    );
    this.view = { zoom, x: (left + right) / 2 - width / 2 / zoom, y: (low + high) / 2 + height / 2 / zoom };
    this.refresh();
  }

  /** Zoom about a place on the screen. @param {number} factor @param {number[]} [pixel] */
  zoomBy(factor, pixel = [this.size[0] / 2, this.size[1] / 2]) {
    const before = this.toWorld(pixel);
    this.view.zoom = Math.min(Math.max(this.view.zoom * factor, 1e-3), 1e5);
    const after = this.toWorld(pixel);
    this.view.x += before[0] - after[0];
    this.view.y += before[1] - after[1];
    this.refresh();
  }

  /** @param {number} dx @param {number} dy in screen pixels */
  panBy(dx, dy) {
    this.view.x -= dx / this.view.zoom;
    this.view.y += dy / this.view.zoom;
    this.refresh();
  }

  /**
   * The pictures that lie under the drawing, each with the matrix that lays its pixels onto the plane.
   * @param {{ url?: string, image?: ImageBitmap, matrix: number[], opacity?: number, size?: number[] }[]} pictures
   */
  async setPictures(pictures) {
    const wish = (this.wish = {});
    const known = this.copies ?? new Map();
    const laid = await Promise.all(
      pictures.map(async (picture) => {
        const key = picture.image ?? picture.url;
        if (!known.has(key)) known.set(key, this.#copiesOf(picture));
        const copies = await known.get(key);
        return { ...picture, key, copies, size: picture.size ?? [copies[0].source.width, copies[0].source.height] };
      }),
    );
    if (this.wish !== wish) return;
    this.laid = laid;
    this.copies = new Map([...known].filter(([key]) => laid.some((picture) => picture.key === key)));
    this.drawPicture();
  }

  /** @param {{ image?: ImageBitmap, url?: string }} picture */
  async #copiesOf({ url, image }) {
    if (image) return [{ source: image, share: 1 }];
    const loaded = new Image();
    loaded.src = url;
    await loaded.decode().catch(() => undefined);
    return this.#reducedCopies(loaded);
  }

  async #reducedCopies(image) {
    const copies = [{ source: image, share: 1 }];
    let share = 1;
    while (Math.max(image.width, image.height) * share > 1600 && copies.length < 5) {
      share /= 2;
      const source = await createImageBitmap(image, {
        resizeWidth: Math.round(image.width * share),
        resizeHeight: Math.round(image.height * share),
        resizeQuality: "high",
      });
      copies.push({ source, share });
    }
    return copies;
  }

  resize() {
    const ratio = window.devicePixelRatio || 1;
    const [width, height] = this.size;
    this.canvas.width = Math.max(1, width * ratio);
    this.canvas.height = Math.max(1, height * ratio);
    this.rulerCanvas.width = this.element.clientWidth * ratio;
    this.rulerCanvas.height = this.element.clientHeight * ratio;
    this.refresh();
  }

  refresh() {
    const { zoom, x, y } = this.view;
    this.world.setAttribute("transform", `matrix(${zoom} 0 0 ${-zoom} ${-x * zoom} ${y * zoom})`);
    this.drawPicture();
    this.drawRulers();
    for (const watcher of this.watchers) watcher();
  }

  drawPicture() {
    const context = this.canvas.getContext("2d");
    const ratio = window.devicePixelRatio || 1;
    context.setTransform(1, 0, 0, 1, 0, 0);
    context.clearRect(0, 0, this.canvas.width, this.canvas.height);
    const { zoom, x, y } = this.view;
    const s = zoom * ratio;
    for (const { matrix, copies, opacity, size } of this.laid ?? []) {
      const [a, b, c, d, e, f] = matrix;
      const [width, height] = size;
      const scale = Math.hypot(a, b) * s;
      const copy = [...copies].reverse().find((one) => one.source.width >= Math.min(1, scale) * width) ?? copies[0];
      context.setTransform(a * s, -b * s, c * s, -d * s, (e - x) * s, (y - f) * s);
      context.imageSmoothingEnabled = scale < 6;
      context.imageSmoothingQuality = "high";
      context.globalAlpha = opacity ?? 1;
      if (copy.source.width) context.drawImage(copy.source, -0.5, -0.5, width, height);
    }
  }

  drawRulers() {
    const context = this.rulerCanvas.getContext("2d");
    const ratio = window.devicePixelRatio || 1;
    const [width, height] = [this.element.clientWidth, this.element.clientHeight];
    context.setTransform(ratio, 0, 0, ratio, 0, 0);
    context.clearRect(0, 0, width, height);
    context.fillStyle = "#F4F4F0";
    context.fillRect(0, 0, width, RULER);
    context.fillRect(0, 0, RULER, height);
    context.strokeStyle = context.fillStyle = INK;
    context.font = '400 11px "AH Mono", monospace';
    context.textAlign = "center";
    context.lineWidth = 0.8;
    this.#ruler(context, true, width - RULER);
    this.#ruler(context, false, height - RULER);
    context.beginPath();
    context.moveTo(RULER, 0);
    context.lineTo(RULER, height);
    context.moveTo(0, RULER);
    context.lineTo(width, RULER);
    context.stroke();
    context.fillStyle = "#F4F4F0";
    context.fillRect(0, 0, RULER - 0.5, RULER - 0.5);
    context.fillStyle = INK;
    context.fillText(this.ruler.word, RULER / 2, 16);
    if (this.pointer) this.#needles(context);
  }

  #ruler(context, across, length) {
    const { scale, origin, y } = this.ruler;
    const axis = across ? 0 : 1;
    const value = (pixel) => (this.toWorld([pixel, pixel])[axis] - origin[axis]) * scale * (across ? 1 : y);
    const step = roundStep((SMALLEST_STEP_PX / this.view.zoom) * scale);
    const [first, last] = [value(0), value(length)].sort((a, b) => a - b);
    const tick = step / 10;
    context.beginPath();
    for (let index = Math.ceil(first / tick); index * tick <= last; index++) {
      const world = (index * tick) / scale / (across ? 1 : y) + origin[axis];
      const at = RULER + (across ? this.toScreen([world, 0])[0] : this.toScreen([0, world])[1]);
      const size = index % 10 === 0 ? 10 : index % 5 === 0 ? 7 : 4;
      across
        ? (context.moveTo(at, RULER), context.lineTo(at, RULER - size))
        : (context.moveTo(RULER, at), context.lineTo(RULER - size, at));
      if (index % 10 === 0) this.#rulerNumber(context, across, at, index * tick, step);
    }
    context.stroke();
  }

  #rulerNumber(context, across, at, value, step) {
    const digits = Math.max(0, -Math.floor(Math.log10(step) + 1e-9));
    const text = (Math.abs(value) < step / 100 ? 0 : value).toFixed(digits).replace("-", "−");
    context.save();
    across ? context.translate(at, 10) : (context.translate(10, at), context.rotate(-Math.PI / 2));
    context.fillText(text, 0, 0);
    context.restore();
  }

  #needles(context) {
    const [x, y] = this.toScreen(this.pointer).map((value) => value + RULER);
    context.beginPath();
    if (x > RULER) {
      context.moveTo(x, RULER);
      context.lineTo(x - 4.5, RULER - 8);
      context.lineTo(x + 4.5, RULER - 8);
    }
    if (y > RULER) {
      context.moveTo(RULER, y);
      context.lineTo(RULER - 8, y - 4.5);
      context.lineTo(RULER - 8, y + 4.5);
    }
    context.fill();
  }
}
