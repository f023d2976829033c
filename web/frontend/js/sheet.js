// The Build sheet at rest: numbers and choices that can be changed, picks that can be opened, steps that move; the bodies.

import { address, command, mayChange, openSketch, unit } from "./talk.js";
import { followDrag } from "./gestures.js";

const RAIL_PX = 54;
const FOLDED = `folded ${address("")}`;

/**
 * @param {HTMLElement} sheet
 * @param {{ reload: () => void, takes: (name: string) => boolean, buildTo: (name: string | null) => void,
 *   edit: (name: string, blank: string, added?: string) => void, hide: (body: string) => void, isHidden: (body: string) => boolean }} hooks
 * @returns What writes the sheet anew.
 */
export function startSheet(sheet, { reload, takes, buildTo, edit, hide, isHidden }) {
  const stepOf = (target) => target.closest("[data-step]")?.dataset.step;

  async function changed(target) {
    const { field, body, part, plane, groupTitle } = target.dataset;
    if (groupTitle) return command("group.title", { name: groupTitle, text: target.value });
    if (body) return command("body.set", { name: body, field: part, text: target.value });
    if (plane) return command("plane.set", { name: plane, field, text: target.value, unit });
    const name = stepOf(target);
    if (name && field) return command("solid.set", { name, blanks: { [field]: target.value }, unit });
    return true;
  }

  function sayHidden() {
    for (const button of sheet.querySelectorAll("[data-hide-body]"))
      button.textContent = isHidden(button.dataset.hideBody) ? "show" : "hide";
  }

  /** Groups that are folded, a matter of this page alone. @type {Set<string>} */
  const folded = new Set(JSON.parse(sessionStorage.getItem(FOLDED) ?? "[]"));

  function fold() {
    for (const heading of /** @type {NodeListOf<HTMLElement>} */ (sheet.querySelectorAll("[data-together]")))
      heading.querySelector("[data-fold]").setAttribute("aria-expanded", String(!folded.has(heading.dataset.together)));
    for (const line of /** @type {NodeListOf<HTMLElement>} */ (sheet.querySelectorAll("[data-in]")))
      line.hidden = folded.has(line.dataset.in);
    sessionStorage.setItem(FOLDED, JSON.stringify([...folded]));
  }
  fold();

  /** @param {HTMLElement} target */
  function onHeading(target) {
    const heading = /** @type {HTMLElement} */ (target.closest("[data-together]"));
    const name = heading.dataset.together;
    if (target.closest("[data-fold]")) {
      if (!folded.delete(name)) folded.add(name);
      return fold();
    }
    const act = target.dataset.groupAct;
    if (!act || !mayChange) return;
    if (act === "suppress") command("group.suppress", { name, suppressed: !heading.classList.contains("off") });
    else if (act === "part") command("group.part", { name });
    else command("group.move", { name, by: act === "up" ? -1 : 1 });
  }

  /** A click is lost when what is pressed is gone before it is let go, so the sheet is renewed after that. */
  let pressed = false;
  /** @type {[string, () => void] | null} */
  let waiting = null;
  const released = () => {
    pressed = false;
    setTimeout(() => waiting && !pressed && renew(...waiting));
  };
  sheet.addEventListener("pointerdown", () => {
    pressed = true;
  });
  addEventListener("pointerup", released);
  addEventListener("pointercancel", released);

  /** Write the sheet anew. @param {string} text @param {() => void} after What is done once it is written. */
  function renew(text, after) {
    waiting = pressed ? [text, after] : null;
    if (pressed) return;
    sheet.innerHTML = text;
    sayHidden();
    fold();
    after();
  }

  const lines = () => /** @type {HTMLElement[]} */ ([...sheet.querySelectorAll(".op[data-step]")]);

  /** A line taken by its rail goes where it is let go; an order that cannot be is refused with the reason. */
  followDrag(sheet, {
    begin(event) {
      const line = /** @type {HTMLElement} */ (event.target).closest?.(".op[data-step]");
      const onRail = line && event.clientX - line.getBoundingClientRect().left < RAIL_PX;
      return onRail && mayChange && event.button === 0 && { line, over: null };
    },
    move(held, event) {
      held.line.classList.add("moving");
      held.over?.classList.remove("over");
      const under = document.elementFromPoint(event.clientX, event.clientY)?.closest(".op[data-step]");
      held.over = under && under !== held.line ? under : null;
      held.over?.classList.add("over");
    },
    async end(held, event, moved) {
      held.line.classList.remove("moving");
      held.over?.classList.remove("over");
      if (!moved || !held.over) return;
      const by = lines().indexOf(held.over) - lines().indexOf(held.line);
      await command("solid.move", { name: held.line.dataset.step, by });
    },
    cancel(held) {
      held.line.classList.remove("moving");
      held.over?.classList.remove("over");
    },
    still: 4,
  });

  sheet.addEventListener("change", async (event) => {
    if (event.target.closest(".writing")) return;
    if (event.target.matches("input")) event.target.blur();
    if (!(await changed(event.target))) reload();
  });

  sheet.addEventListener("focusin", ({ target }) => {
    if (target.dataset?.typed && target.dataset.typed !== target.value) {
      target.dataset.shown = target.value;
      target.value = target.dataset.typed;
      target.select();
    }
  });
  sheet.addEventListener("focusout", ({ target }) => {
    if (target.dataset?.shown !== undefined && target.value === target.dataset.typed)
      target.value = target.dataset.shown;
  });

  sheet.addEventListener("click", (event) => {
    if (event.target.closest(".writing")) return;
    if (event.target.closest("[data-together]")) return onHeading(/** @type {HTMLElement} */ (event.target));
    const name = stepOf(event.target);
    if (name && takes(name)) return event.preventDefault();
    const { act, pick, offer, hideBody } = event.target.dataset;
    if (hideBody) {
      hide(hideBody);
      sayHidden();
    }
    if (act === "open") return openSketch(name);
    if (act === "here" || act === "all") return buildTo(act === "here" ? name : null);
    if (!name || !mayChange) return;
    if (pick) edit(name, pick);
    if (offer) edit(name, "", offer);
    if (act === "suppress")
      command("solid.suppress", { name, suppressed: !event.target.closest(".op").classList.contains("off") });
    if (act === "join" || act === "leave") command(`group.${act}`, { step: name });
    if (act === "remove") command("solid.remove", { name });
    if (act === "up" || act === "down") command("solid.move", { name, by: act === "up" ? -1 : 1 });
    if (event.target.dataset.suggest)
      command("solid.set", { name, blanks: { [event.target.dataset.suggestField]: event.target.dataset.suggest } });
  });

  return renew;
}
