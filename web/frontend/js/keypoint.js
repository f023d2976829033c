// Pointing without a mouse: Ctrl and an arrow key move a mark over the Board, with Shift by little; Enter clicks there,
// and once more on a dimension opens it.

const STEP_PX = 40;
const LITTLE_PX = 4;
const WAYS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };

/**
 * @param {any} surface what is pointed at; it can have the focus
 * @param {(pixel: number[]) => string} words where a place is, for who cannot see it
 */
export function startKeyPoint(surface, words = () => "") {
  const host = surface.parentElement;
  const mark = host.appendChild(Object.assign(document.createElement("i"), { className: "keypoint", hidden: true }));
  const told = host.appendChild(Object.assign(document.createElement("span"), { className: "visually-hidden" }));
  told.setAttribute("aria-live", "polite");
  /** @type {number[] | null} */
  let at = null;
  let fresh = false;

  function under() {
    const { left, top } = surface.getBoundingClientRect();
    const [clientX, clientY] = [left + at[0], top + at[1]];
    const found = document.elementFromPoint(clientX, clientY);
    return { target: surface.contains(found) || host.contains(found) ? found : surface, clientX, clientY };
  }

  function tellAll(names, { shiftKey, altKey }) {
    const { target, clientX, clientY } = under();
    const told = { bubbles: true, cancelable: true, clientX, clientY, shiftKey, altKey, view: window };
    for (const name of names) {
      const pointer = name.startsWith("pointer");
      const kind = pointer ? PointerEvent : MouseEvent;
      target.dispatchEvent(new kind(name, { ...told, ...(pointer ? { pointerId: 1, pointerType: "mouse" } : {}) }));
    }
  }

  function move(way, event) {
    const { width, height, left, top } = surface.getBoundingClientRect();
    const frame = host.getBoundingClientRect();
    const step = event.shiftKey ? LITTLE_PX : STEP_PX;
    at ??= [width / 2, height / 2];
    at = [width, height].map((most, axis) => Math.min(Math.max(at[axis] + way[axis] * step, 1), most - 1));
    surface.focus({ preventScroll: true });
    mark.hidden = false;
    mark.style.left = `${left - frame.left + at[0]}px`;
    mark.style.top = `${top - frame.top + at[1]}px`;
    fresh = true;
    told.textContent = words(at);
    tellAll(["pointermove"], { shiftKey: false, altKey: event.altKey });
  }

  function hide() {
    mark.hidden = true;
    at = null;
    fresh = false;
  }

  document.addEventListener(
    "keydown",
    (event) => {
      if (event.target.matches("input, select, textarea")) return;
      const way = WAYS[event.key];
      if (way && event.ctrlKey) move(way, event);
      else if (event.key === "Enter" && at && !event.target.closest("button, a, [role=checkbox]")) {
        if (fresh) tellAll(["pointermove", "pointerdown", "pointerup", "click"], event);
        else if (under().target.closest("[data-dimension]")) tellAll(["dblclick"], event);
        else return;
        fresh = false;
      } else {
        if (event.key === "Escape") hide();
        return;
      }
      event.preventDefault();
      event.stopImmediatePropagation();
    },
    { capture: true },
  );
}
