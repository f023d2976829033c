// Moving about with a mouse, a pen and fingers, for every Board: the wheel and two fingers come closer and shift, a long
// press stands for a double click, and a drag is followed from where it took hold of something to where it lets go.

const WHEEL = { pixel: 0.0015, line: 0.05 };
const LONG_PRESS_MS = 550;
const STILL_PX = 8;

/** Calls listeners and gives back what takes them away. @param {EventTarget} element @param {Record<string, any>} listeners @param {any} [options] */
function listen(element, listeners, options) {
  const ending = new AbortController();
  for (const [name, then] of Object.entries(listeners))
    element.addEventListener(name, then, { ...options, signal: ending.signal });
  return () => ending.abort();
}

/**
 * Follow drags that begin on an element.
 * @template Held
 * @param {Element} element
 * @param {{
 *   begin: (event: PointerEvent) => Held | null | false | undefined,
 *   move: (held: Held, event: PointerEvent) => void,
 *   end?: (held: Held, event: PointerEvent, moved: boolean) => void,
 *   cancel?: (held: Held) => void,
 *   still?: number,
 * }} hooks `begin` takes hold of something or not; it counts as moved once it is more than `still` pixels away.
 */
export function followDrag(element, { begin, move, end = () => {}, cancel = () => {}, still = 0 }) {
  /** @type {{ held: any, id: number, from: number[], moved: boolean } | null} */
  let drag = null;
  return listen(element, {
    pointerdown(event) {
      if (drag) return;
      const held = begin(event);
      if (held) drag = { held, id: event.pointerId, from: [event.clientX, event.clientY], moved: false };
    },
    pointermove(event) {
      if (drag?.id !== event.pointerId) return;
      const far = Math.hypot(event.clientX - drag.from[0], event.clientY - drag.from[1]);
      if (!drag.moved && far <= still) return;
      if (!drag.moved) element.setPointerCapture(event.pointerId);
      drag.moved = true;
      move(drag.held, event);
    },
    pointerup(event) {
      if (drag?.id !== event.pointerId) return;
      const { held, moved } = drag;
      drag = null;
      end(held, event, moved);
    },
    pointercancel(event) {
      if (drag?.id !== event.pointerId) return;
      const { held } = drag;
      drag = null;
      cancel(held);
    },
  });
}

/**
 * Follow the wheel, two fingers and a long press.
 * @param {Element} element
 * @param {{ zoom: (factor: number, pixel: number[]) => void, shift: (dx: number, dy: number) => void, moved?: () => void }} hooks
 */
export function followView(element, { zoom, shift, moved = () => {} }) {
  /** @type {Map<number, number[]>} */
  const fingers = new Map();
  let pressing = 0;

  const pixel = (/** @type {number[]} */ [x, y]) => {
    const box = element.getBoundingClientRect();
    return [x - box.left, y - box.top];
  };
  const both = () => {
    const [[ax, ay], [bx, by]] = [...fingers.values()];
    return { middle: [(ax + bx) / 2, (ay + by) / 2], apart: Math.max(Math.hypot(bx - ax, by - ay), 1) };
  };

  /** A finger that rests asks for what a double click does. */
  function press(event) {
    const { target, clientX, clientY } = event;
    pressing = window.setTimeout(
      () => target.dispatchEvent(new MouseEvent("dblclick", { bubbles: true, clientX, clientY })),
      LONG_PRESS_MS,
    );
    return [clientX, clientY];
  }

  let rest = [0, 0];
  const ends = [
    listen(
      element,
      {
        wheel(event) {
          if (event.target.closest(".card")) return;
          event.preventDefault();
          zoom(
            Math.exp(-event.deltaY * (event.deltaMode ? WHEEL.line : WHEEL.pixel)),
            pixel([event.clientX, event.clientY]),
          );
        },
      },
      { passive: false },
    ),
    listen(
      element,
      {
        pointerdown(event) {
          if (event.pointerType === "mouse") return;
          fingers.set(event.pointerId, [event.clientX, event.clientY]);
          clearTimeout(pressing);
          if (fingers.size === 1) rest = press(event);
          else {
            event.stopImmediatePropagation();
            for (const pointerId of fingers.keys())
              element.dispatchEvent(new PointerEvent("pointercancel", { pointerId, bubbles: false }));
          }
        },
        pointermove(event) {
          if (!fingers.has(event.pointerId)) return;
          if (Math.hypot(event.clientX - rest[0], event.clientY - rest[1]) > STILL_PX) clearTimeout(pressing);
          if (fingers.size < 2) return;
          event.stopImmediatePropagation();
          const before = both();
          fingers.set(event.pointerId, [event.clientX, event.clientY]);
          const now = both();
          moved();
          shift(now.middle[0] - before.middle[0], now.middle[1] - before.middle[1]);
          zoom(now.apart / before.apart, pixel(now.middle));
        },
      },
      { capture: true },
    ),
    listen(window, {
      pointerup: (event) => lift(event),
      pointercancel: (event) => event.isTrusted && lift(event),
    }),
  ];

  function lift(event) {
    clearTimeout(pressing);
    fingers.delete(event.pointerId);
  }
  return () => ends.forEach((end) => end());
}
