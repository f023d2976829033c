// The pictures of the job: which one to work on, how each lies, what is shown of it, and where it came from.

import { announce, command, mayChange, say, send, setVersion, unit, upload } from "./talk.js";
import { refresh } from "./panel.js";
import { shape } from "./board.js";
import { followDrag } from "./gestures.js";

const card = document.getElementById("pictures");
const chooser = card.elements.picture;
const file = card.querySelector("input[type=file]");
const HANDLE_PX = 90;
const TYPED = ["angle", "width", "x", "y", "height_mm", "camera_mm"];
const NOTED = ["name", "taken_from", "licence"];

/** @param {{ board: import("./board.js").Board, tray: any, redraw: () => void, load: () => Promise<void> }} parts */
export function startPictures({ board, tray, redraw, load }) {
  let state = { pictures: [], picture: null, scale: null };
  let drag = null;
  let waiting = 0;

  const current = () => state.pictures.find((picture) => picture.worked_on);
  const inUnit = (mm) => (unit === "in" ? (mm / 25.4).toFixed(4) : mm.toFixed(2));
  const place = (field, text) => command("reference.place_picture", { picture: current().id, field, text, unit });

  function fill() {
    chooser.replaceChildren(
      ...state.pictures.map((picture) =>
        Object.assign(document.createElement("option"), {
          value: picture.id,
          textContent: picture.name,
          selected: picture.worked_on,
        }),
      ),
    );
    const one = current();
    for (const part of card.querySelectorAll("[data-of-picture]")) part.hidden = !one;
    if (!one) return;
    const fields = card.elements;
    for (const name of NOTED) fields[name].value = one[name] ?? "";
    fields.angle.value = `${one.degrees.toFixed(2)}°`;
    [fields.x.value, fields.y.value] = one.at.map(inUnit);
    fields.width.value = one.wide ? inUnit(one.wide.mm) : "";
    fields.height_mm.value = inUnit(one.height ?? 0);
    fields.camera_mm.value = inUnit(one.camera ?? 0);
    fields.opacity.value = Math.round((one.opacity ?? 0.55) * 100);
    fields.model.value = one.model ?? "auto";
    fields.visible.checked = one.visible !== false;
    fields.locked.checked = Boolean(one.locked);
    fields.drawn.checked = Boolean(one.drawn);
    fields.flipped.checked = one.flipped;
    for (const name of [...TYPED, "flipped", "model"]) fields[name].disabled = Boolean(one.locked);
    fields.width.disabled ||= Boolean(one.wide && !one.wide.is_set);
  }

  card.addEventListener("submit", (event) => event.preventDefault());
  /** Carry out what was changed on the card. @returns {Promise<any>} null when it was refused */
  function carry({ name, value, checked }) {
    const set = (field, now) => command("reference.set_picture", { picture: current().id, field, value: now });
    if (name === "picture")
      return send("reference/choose", { picture: value }).then(announce, (problem) => say(problem.message, true));
    if (NOTED.includes(name)) return set(name, value);
    if (["visible", "locked", "drawn"].includes(name)) return set(name, checked);
    if (name === "opacity") return set("opacity", Number(value) / 100);
    if (name === "flipped") return place("flipped", checked);
    return name === "model" || TYPED.includes(name) ? place(name, value) : Promise.resolve(true);
  }

  card.addEventListener("change", async (event) => {
    if (event.target === file) return add([...file.files]);
    waiting += 1;
    const done = await carry(event.target);
    waiting -= 1;
    if (!done) fill();
  });
  card
    .querySelector("[data-remove]")
    .addEventListener("click", () => current() && command("reference.remove_picture", { picture: current().id }));
  card.querySelector("[data-close]").addEventListener("click", () => tray.release());

  /** Take pictures in; a drawing is rendered at the resolution typed. @param {File[]} files */
  async function add(files) {
    for (const one of files) {
      const form = new FormData();
      form.append("picture", one, one.name || "pasted.png");
      form.append("dpi", card.elements.drawing_dpi.value);
      form.append("page", card.elements.page.value);
      say(`Taking in ${one.name} …`);
      const answer = await upload("reference/pictures", form).catch((problem) => say(problem.message, true));
      if (!answer) break;
      setVersion(answer.version);
      say(answer.told);
      await load();
      refresh();
    }
    file.value = "";
  }

  for (const name of ["dragover", "drop"]) document.addEventListener(name, (event) => event.preventDefault());
  document.addEventListener("drop", (event) => {
    if (mayChange && event.dataTransfer.files.length) add([...event.dataTransfer.files]);
  });
  document.addEventListener("paste", (event) => {
    if (mayChange && event.clipboardData.files.length) add([...event.clipboardData.files]);
  });

  /** Dragging the origin moves the picture in the plane; dragging the end of the axis turns it. */
  followDrag(board.svg, {
    begin(event) {
      const handle = event.target.closest("[data-handle]");
      if (!handle || card.hidden || !mayChange) return null;
      return (drag = { which: handle.dataset.handle, at: board.at(event), now: board.at(event) });
    },
    move(held, event) {
      held.now = board.at(event);
      redraw();
    },
    async end(done) {
      drag = null;
      if (Math.hypot(done.now[0] - done.at[0], done.now[1] - done.at[1]) < 1e-9) return redraw();
      const [origin, one] = [lastPose.toWorld(state.scale.origin), current()];
      if (done.which === "size")
        await command("reference.drag_corner", { picture: one.id, corner: corner(), place: lastPose.toPx(done.now) });
      else if (done.which === "origin") await command("reference.set_origin", { place: lastPose.toPx(done.now) });
      else {
        const turn = (Math.atan2(done.now[1] - origin[1], done.now[0] - origin[0]) * 180) / Math.PI;
        await place("angle", `${current().degrees + turn * (state.picture.flipped ? -1 : 1)}`);
      }
      redraw();
    },
    cancel() {
      drag = null;
      redraw();
    },
  });

  let lastPose = null;
  /** The corner to size the picture by: of those on its left, which the card does not cover, the one farther from the origin. */
  function corner() {
    const [x, y] = state.scale.origin;
    return [
      [0, 0],
      [0, state.picture.height],
    ].sort((a, b) => Math.hypot(b[0] - x, b[1] - y) - Math.hypot(a[0] - x, a[1] - y))[0];
  }

  return {
    /** What the server holds now; while a change of the card is on its way, the card keeps what was just entered. */
    show(now) {
      state = now;
      if (!waiting) fill();
    },
    open() {
      card.hidden = false;
      fill();
      redraw();
    },
    close() {
      card.hidden = true;
    },
    /** The origin and the end of the x axis, to take hold of while the card is open. */
    handles(pose) {
      lastPose = pose;
      if (card.hidden || !state.scale || current()?.locked) return [];
      const [x, y] = board.toScreen(drag?.which === "origin" ? drag.now : pose.toWorld(state.scale.origin));
      const [tipX, tipY] = drag?.which === "turn" ? board.toScreen(drag.now) : [x + HANDLE_PX, y];
      const group = shape("g", { class: "handles" });
      group.append(
        shape("path", { d: `M${x} ${y}L${tipX} ${tipY}M${x - 12} ${y}H${x + 12}M${x} ${y - 12}V${y + 12}` }),
        shape("circle", { cx: x, cy: y, r: 8, "data-handle": "origin" }),
        shape("circle", { cx: tipX, cy: tipY, r: 6, "data-handle": "turn" }),
      );
      if (current()?.wide?.is_set) {
        const [cornerX, cornerY] = board.toScreen(drag?.which === "size" ? drag.now : pose.toWorld(corner()));
        const inward = y > cornerY ? 18 : -18;
        group.append(
          shape("path", { d: `M${cornerX + 18} ${cornerY}H${cornerX}V${cornerY + inward}` }),
          shape("circle", { cx: cornerX, cy: cornerY, r: 6, "data-handle": "size" }),
        );
      }
      return [group];
    },
  };
}
