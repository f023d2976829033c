// Shows a packed mesh: clay shading, ink edges, turning by mouse or keys; picks faces and edges by name.

import * as THREE from "three";
import { LineMaterial } from "three/examples/jsm/lines/LineMaterial.js";
import { LineSegments2 } from "three/examples/jsm/lines/LineSegments2.js";
import { LineSegmentsGeometry } from "three/examples/jsm/lines/LineSegmentsGeometry.js";

/** Ways to look at a part, by tool: turned about, tipped. */
export const LOOKS = {
  "view-turned": [-0.55, 0.95],
  "view-top": [0, 0],
  "view-front": [0, Math.PI / 2],
  "view-right": [Math.PI / 2, Math.PI / 2],
  "view-bottom": [0, Math.PI],
};
const INK = 0x17201d;
const THIN = 0x9aa59c;
const BRASS = 0x9a6b12;
/** Widths in pixels of visible edges and of smooth ones, two to one (ISO 128-2). */
const WIDE = 1.8;
const NARROW = 0.9;
const TURN = 0.008;
/** How far the eye is in perspective, in halves of the height that is seen: as a drawing is held (about 28 degrees). */
const EYE = 4;
/** The least distance of the eye, in radii of all that is shown: closer than that it would look out of the solid. */
const OUTSIDE = 2;
const LIFT = 0.002;

const CLAY = {
  vertexShader: `
    varying vec3 n; varying vec3 p; varying vec3 w;
    void main() {
      n = normalize(normalMatrix * normal);
      w = (modelMatrix * vec4(position, 1.0)).xyz;
      vec4 v = modelViewMatrix * vec4(position, 1.0);
      p = v.xyz;
      gl_Position = projectionMatrix * v;
    }`,
  fragmentShader: `uniform vec3 tint; uniform vec4 cut; varying vec3 n; varying vec3 p; varying vec3 w;
    void main() {
      if (dot(w, cut.xyz) > cut.w) discard;
      // Where the first thing that is seen is the inside of a face, the eye looks onto what was cut.
      if (dot(cut.xyz, cut.xyz) > 0.0 && !gl_FrontFacing) {
        float line = mod(gl_FragCoord.x + gl_FragCoord.y, 9.0);
        gl_FragColor = vec4(line < 1.1 ? vec3(0.09, 0.125, 0.114) : mix(tint, vec3(1.0), 0.72), 1.0);
        #include <colorspace_fragment>
        return;
      }
      vec3 m = normalize(gl_FrontFacing ? n : -n);
      float up = dot(m, normalize(vec3(-0.35, 0.75, 0.55)));
      float side = dot(m, normalize(vec3(0.8, 0.1, 0.4)));
      float tone = clamp(0.62 + 0.24 * up + 0.06 * side, 0.0, 1.0);
      vec3 dark = tint * 0.80; vec3 light = mix(tint, vec3(1.0), 0.42);
      gl_FragColor = vec4(mix(dark, light, smoothstep(0.35, 0.9, tone)), 1.0);
      #include <colorspace_fragment>
    }`,
};

/** Whether something is the shaded surface of a body, and no line. @param {any} item */
const isClay = (item) => item.isMesh && !item.isLineSegments2;

/** @param {HTMLCanvasElement} canvas */
export function createViewer(canvas) {
  const renderer = new THREE.WebGLRenderer({ canvas, antialias: true, alpha: true, preserveDrawingBuffer: true });
  renderer.setClearColor(0x000000, 0);
  renderer.outputColorSpace = THREE.LinearSRGBColorSpace;
  const scene = new THREE.Scene();
  // Groups of meshes and lines, which the types of the library only know as objects.
  const [root, sheets] = /** @type {any[]} */ ([new THREE.Group(), new THREE.Group()]);
  scene.add(root, sheets);
  const textures = new Map();
  const parallel = new THREE.OrthographicCamera(-1, 1, 1, -1, -1e5, 1e5);
  const perspective = new THREE.PerspectiveCamera();
  /** @type {THREE.OrthographicCamera | THREE.PerspectiveCamera} */
  let camera = parallel;
  const turn = { about: -0.55, tip: 0.95 };
  const center = new THREE.Vector3();
  let half = 60;
  let radius = 0;
  let wanted = false;
  let bodies = [];
  let chosen = new Set();
  /** The plane of a section: what lies beyond it is not shown; no direction for none. */
  const cutting = new THREE.Vector4(0, 0, 0, 1);
  const beyond = new THREE.Plane();
  let clips = [];
  const watchers = [];

  function place() {
    const width = canvas.clientWidth || 1;
    const height = canvas.clientHeight || 1;
    const wide = half * Math.max(1, width / height);
    const high = half * Math.max(1, height / width);
    const far = camera === perspective ? Math.max(EYE * high, OUTSIDE * radius) : 10 * half;
    if (camera === parallel) Object.assign(parallel, { left: -wide, right: wide, top: high, bottom: -high });
    else {
      const fov = (2 * Math.atan(high / far) * 180) / Math.PI;
      Object.assign(perspective, { fov, aspect: wide / high, near: far / 100, far: 100 * far });
    }
    const { about, tip } = turn;
    const eye = new THREE.Vector3(Math.sin(about) * Math.sin(tip), -Math.cos(about) * Math.sin(tip), Math.cos(tip));
    camera.up.set(-Math.sin(about) * Math.cos(tip), Math.cos(about) * Math.cos(tip), Math.sin(tip));
    camera.position.copy(center).addScaledVector(eye, far);
    camera.lookAt(center);
    camera.updateProjectionMatrix();
    camera.updateMatrixWorld();
  }

  function render() {
    wanted = false;
    place();
    renderer.render(scene, camera);
    for (const watcher of watchers) watcher();
  }

  const later = () => {
    if (wanted) return;
    wanted = true;
    requestAnimationFrame(render);
  };

  function resize() {
    renderer.setPixelRatio(Math.min(window.devicePixelRatio || 1, 2));
    renderer.setSize(canvas.clientWidth, canvas.clientHeight, false);
    later();
  }
  new ResizeObserver(resize).observe(canvas);

  /** Let go of what an object holds in the memory of the graphics card; pictures are shared. @param {any} item */
  function free(item) {
    item.geometry?.dispose();
    item.material?.dispose();
  }

  function clear() {
    root.traverse(free);
    root.clear();
  }

  /** Lines of a width in pixels through pairs of places. @param {number[]} places @param {Record<string, any>} looks */
  function wideLines(places, looks) {
    const geometry = new LineSegmentsGeometry();
    if (places.length) geometry.setPositions(places);
    const material = new LineMaterial({ ...looks, clippingPlanes: clips, clipping: true });
    const lines = new LineSegments2(geometry, material);
    lines.visible = places.length > 0;
    return /** @type {any} */ (lines);
  }

  function edgeLines(body, smooth) {
    const places = [];
    const owners = [];
    for (let edge = 0; edge < body.edges.length; edge++) {
      if (body.smooth[edge] !== smooth) continue;
      for (let index = body.edge_starts[edge]; index < body.edge_starts[edge + 1] - 1; index++) {
        places.push(...body.edge_points.subarray(3 * index, 3 * index + 6));
        owners.push(edge);
      }
    }
    const lines = wideLines(places, { color: smooth ? THIN : INK, linewidth: smooth ? NARROW : WIDE });
    lines.userData = { body, owners, places };
    lines.renderOrder = smooth ? 2 : 3;
    return lines;
  }

  const clay = () =>
    new THREE.ShaderMaterial({
      ...CLAY,
      uniforms: {
        tint: { value: new THREE.Color(0x9fb0a6).convertLinearToSRGB() },
        cut: { value: cutting },
      },
      side: THREE.DoubleSide,
      polygonOffset: true,
      polygonOffsetFactor: 1.5,
      polygonOffsetUnits: 2,
    });

  /** Compile the shaders before the first body comes, so that nobody waits for them then. */
  function warm() {
    const speck = new THREE.BufferGeometry();
    for (const name of ["position", "normal"])
      speck.setAttribute(name, new THREE.Float32BufferAttribute(new Float32Array(9), 3));
    const group = new THREE.Group();
    group.add(new THREE.Mesh(speck, clay()), wideLines([0, 0, 0, 0, 0, 0], { color: INK, linewidth: WIDE }));
    scene.add(group);
    place();
    renderer.render(scene, camera);
    group.visible = false;
  }

  /** @param {any[]} fresh */
  function show(fresh) {
    bodies = fresh;
    clear();
    for (const body of bodies) {
      const geometry = new THREE.BufferGeometry();
      geometry.setAttribute("position", new THREE.BufferAttribute(body.vertices, 3));
      geometry.setAttribute("normal", new THREE.BufferAttribute(body.normals, 3));
      geometry.setIndex(new THREE.BufferAttribute(body.triangles, 1));
      const material = clay();
      const mesh = new THREE.Mesh(geometry, material);
      mesh.userData = { body };
      root.add(mesh, edgeLines(body, true), edgeLines(body, false));
    }
    radius = bodies.length ? shownBox().getSize(new THREE.Vector3()).length() / 2 : 0;
    mark();
    later();
  }

  /** Colours of bodies, and which are not shown. @param {Record<string, { colour: string, hidden: boolean }>} looks */
  function look(looks) {
    for (const item of root.children.filter((one) => one.userData.body)) {
      const told = looks[item.userData.body.name];
      item.visible = !told?.hidden && item.userData.places?.length !== 0;
      if (isClay(item) && told) item.material.uniforms.tint.value.set(told.colour).convertLinearToSRGB();
    }
    later();
  }

  /** Chosen edges are drawn twice as wide, in brass, through all that lies before them. */
  function mark() {
    for (const old of root.children.filter((item) => item.userData.mark)) {
      free(old);
      root.remove(old);
    }
    for (const lines of root.children.filter((item) => item.userData.owners)) {
      const { body, owners, places } = lines.userData;
      const some = owners.flatMap((edge, index) =>
        chosen.has(`${body.name} ${body.edges[edge]}`) ? places.slice(6 * index, 6 * index + 6) : [],
      );
      if (!some.length) continue;
      const line = wideLines(some, { color: BRASS, linewidth: 2 * WIDE, depthTest: false });
      line.renderOrder = 5;
      line.userData = { mark: true };
      root.add(line);
    }
  }

  /** Pictures in space, each a flat quadrilateral of four corners. @param {{ url: string, corners: number[][], normal: number[], opacity: number }[]} laid */
  function showPictures(laid) {
    sheets.children.forEach(free);
    sheets.clear();
    const shown = new Set(laid.map(({ url }) => url));
    for (const [url, texture] of textures) {
      if (shown.has(url)) continue;
      texture.dispose();
      textures.delete(url);
    }
    for (const { url, corners, normal, opacity } of laid) {
      const geometry = new THREE.BufferGeometry();
      const lifted = corners.map((corner) => corner.map((value, axis) => value + normal[axis] * half * LIFT));
      geometry.setAttribute("position", new THREE.Float32BufferAttribute(lifted.flat(), 3));
      geometry.setAttribute("uv", new THREE.Float32BufferAttribute([0, 1, 1, 1, 1, 0, 0, 0], 2));
      geometry.setIndex([0, 1, 2, 0, 2, 3]);
      const texture = textures.get(url) ?? new THREE.TextureLoader().load(url, later);
      textures.set(url, texture);
      const sheet = new THREE.Mesh(
        geometry,
        new THREE.MeshBasicMaterial({
          map: texture,
          transparent: true,
          opacity,
          side: THREE.DoubleSide,
          depthWrite: false,
        }),
      );
      sheet.renderOrder = 4;
      sheets.add(sheet);
    }
    later();
  }

  /** The face under a place on the screen: its name and its body's. @param {number[]} pixel */
  function faceAt(pixel) {
    const ray = new THREE.Raycaster();
    ray.setFromCamera(
      new THREE.Vector2((pixel[0] / canvas.clientWidth) * 2 - 1, 1 - (pixel[1] / canvas.clientHeight) * 2),
      camera,
    );
    const hit = ray
      .intersectObjects(
        root.children.filter((item) => isClay(item) && item.visible),
        false,
      )
      .find(({ point }) => !clips.length || beyond.distanceToPoint(point) >= 0);
    if (!hit) return null;
    const { body } = hit.object.userData;
    return { body: body.name, name: body.faces[body.owners[hit.faceIndex]] };
  }

  /** Draw the edges of faces of a body as chosen. @param {string} of @param {string[]} names */
  function chooseFaces(of, names) {
    const body = bodies.find((one) => one.name === of);
    chosen = new Set(
      (body?.edges ?? [])
        .filter((edge) =>
          edge
            .replace(/ [@#].*$/, "")
            .split(" | ")
            .some((face) => names.includes(face)),
        )
        .map((edge) => `${of} ${edge}`),
    );
    mark();
    later();
  }

  /** Leave out what lies beyond a plane; null for nothing. @param {number[] | null} way @param {number} far */
  function cut(way, far) {
    const [x, y, z] = way ?? [0, 0, 0];
    cutting.set(x, y, z, way ? far : 1);
    beyond.set(new THREE.Vector3(-x, -y, -z), far);
    clips = way ? [beyond] : [];
    renderer.localClippingEnabled = Boolean(way);
    for (const item of root.children.filter((one) => one.userData.owners)) item.material.clippingPlanes = clips;
    later();
  }

  /** Whether a direction points to the eye, 1, or away from it, -1. @param {number[]} way */
  const toward = ([x, y, z]) =>
    new THREE.Vector3(x, y, z).dot(new THREE.Vector3().subVectors(camera.position, center)) < 0 ? -1 : 1;

  /** How far the bodies reach along a direction, from the least to the most. @param {number[]} way */
  function reach(way) {
    const box = shownBox();
    if (box.isEmpty()) return [-1, 1];
    const along = corners(box).map((corner) => corner.dot(new THREE.Vector3(...way)));
    return [Math.min(...along), Math.max(...along)];
  }

  function shownBox() {
    const box = new THREE.Box3();
    for (const body of bodies) box.union(new THREE.Box3().setFromArray(body.vertices));
    return box;
  }

  /** Corners of a box. @param {THREE.Box3} box */
  const corners = (box) =>
    [0, 1, 2, 3, 4, 5, 6, 7].map(
      (index) =>
        new THREE.Vector3(
          index & 1 ? box.max.x : box.min.x,
          index & 2 ? box.max.y : box.min.y,
          index & 4 ? box.max.z : box.min.z,
        ),
    );

  /** Show everything, with room around it. @param {number[][]} [places] in space, where there is no body */
  function fit(places) {
    const box = shownBox();
    if (box.isEmpty() && places) box.setFromPoints(places.map((place) => new THREE.Vector3(...place)));
    if (box.isEmpty()) box.set(new THREE.Vector3(-50, -40, 0), new THREE.Vector3(50, 40, 0));
    box.getCenter(center);
    const shown = camera;
    camera = parallel;
    half = 1;
    place();
    const seen = corners(box).map((corner) => corner.project(parallel));
    const reach = Math.max(
      ...seen.map(
        (corner) =>
          (Math.abs(corner.x) * (parallel.right - parallel.left)) /
          2 /
          Math.max(1, canvas.clientWidth / canvas.clientHeight),
      ),
      ...seen.map(
        (corner) =>
          (Math.abs(corner.y) * (parallel.top - parallel.bottom)) /
          2 /
          Math.max(1, canvas.clientHeight / canvas.clientWidth),
      ),
    );
    half = Math.max(reach * 1.18, box.getSize(new THREE.Vector3()).length() * 0.3, 1);
    camera = shown;
    // In perspective what is nearer looks larger.
    for (let step = 0; step < 12 && outOfSight(); step++) half *= 1.08;
    later();
  }

  /** Whether some of the bodies lies outside of what is shown. */
  function outOfSight() {
    place();
    return (
      !shownBox().isEmpty() &&
      corners(shownBox()).some((corner) => {
        const at = corner.project(camera);
        return Math.abs(at.x) > 1 || Math.abs(at.y) > 1;
      })
    );
  }

  /** @param {[number, number, number]} point */
  function toScreen(point) {
    const at = new THREE.Vector3(...point).project(camera);
    return [((at.x + 1) / 2) * canvas.clientWidth, ((1 - at.y) / 2) * canvas.clientHeight];
  }

  /** The visible edge nearest to a place on the screen. @param {number[]} pixel */
  function edgeAt(pixel, within = 9) {
    let best = null;
    let least = within;
    for (const lines of root.children.filter((item) => item.userData.owners)) {
      const { body, owners, places } = lines.userData;
      for (let index = 0; index < owners.length; index++) {
        const a = toScreen(places.slice(6 * index, 6 * index + 3));
        const b = toScreen(places.slice(6 * index + 3, 6 * index + 6));
        const run = [b[0] - a[0], b[1] - a[1]];
        const share = Math.min(
          1,
          Math.max(0, ((pixel[0] - a[0]) * run[0] + (pixel[1] - a[1]) * run[1]) / (run[0] ** 2 + run[1] ** 2 || 1)),
        );
        const away = Math.hypot(a[0] + share * run[0] - pixel[0], a[1] + share * run[1] - pixel[1]);
        if (away < least && visible(places, index, share))
          [least, best] = [away, { name: body.edges[owners[index]], body: body.name }];
      }
    }
    return best;
  }

  /** The visible corner nearest to a place on the screen. @param {number[]} pixel */
  function cornerAt(pixel, within = 14) {
    const shown = new Set(
      root.children.filter((item) => isClay(item) && item.visible).map((item) => item.userData.body),
    );
    let best = null;
    let least = within;
    for (const body of bodies.filter((one) => shown.has(one))) {
      body.corners.forEach((corner, index) => {
        const place = body.corner_points.slice(3 * index, 3 * index + 3);
        const at = toScreen(place);
        const away = Math.hypot(at[0] - pixel[0], at[1] - pixel[1]);
        if (away < least && isSeen(new THREE.Vector3(...place))) [least, best] = [away, { body: body.name, corner }];
      });
    }
    return best;
  }

  /** Where a corner lies on the screen. @param {{ body: string, corner: string }} picked */
  function cornerPixel({ body: name, corner }) {
    const body = bodies.find((one) => one.name === name);
    const index = body?.corners.indexOf(corner) ?? -1;
    return index < 0 ? null : toScreen(body.corner_points.slice(3 * index, 3 * index + 3));
  }

  function visible(places, index, share) {
    const a = new THREE.Vector3(...places.slice(6 * index, 6 * index + 3));
    return isSeen(a.lerp(new THREE.Vector3(...places.slice(6 * index + 3, 6 * index + 6)), share));
  }

  function isSeen(point) {
    const eye = camera === perspective ? point : center;
    const way = new THREE.Vector3().subVectors(camera.position, eye).normalize();
    const ray = new THREE.Raycaster(point.clone().addScaledVector(way, half * 0.004), way);
    return !ray.intersectObjects(
      root.children.filter((item) => isClay(item) && item.visible),
      false,
    ).length;
  }

  /** Place on the base plane under a place on the screen. @param {number[]} pixel */
  function onBase(pixel) {
    const ray = new THREE.Raycaster();
    ray.setFromCamera(
      new THREE.Vector2((pixel[0] / canvas.clientWidth) * 2 - 1, 1 - (pixel[1] / canvas.clientHeight) * 2),
      camera,
    );
    const at = ray.ray.intersectPlane(new THREE.Plane(new THREE.Vector3(0, 0, 1), 0), new THREE.Vector3());
    return at ? [at.x, at.y] : null;
  }

  warm();
  return {
    show,
    look,
    showPictures,
    fit,
    outOfSight,
    edgeAt,
    cornerAt,
    cornerPixel,
    faceAt,
    chooseFaces,
    cut,
    reach,
    toward,
    onBase,
    toScreen,
    later,
    onRender(then) {
      watchers.push(then);
    },
    turnBy(dx, dy) {
      turn.about -= dx * TURN;
      turn.tip = Math.min(Math.PI, Math.max(0, turn.tip - dy * TURN));
      later();
    },
    /** Whether what is farther away looks smaller. @param {boolean} smaller */
    lookIn(smaller) {
      const wants = smaller ? perspective : parallel;
      if (wants === camera) return;
      camera = wants;
      place();
      later();
    },
    /** Directions in space that run to the right and up in the view. */
    axes: () => [0, 1].map((column) => new THREE.Vector3().setFromMatrixColumn(parallel.matrixWorld, column).toArray()),
    turnTo(about, tip) {
      Object.assign(turn, { about, tip });
      later();
    },
    zoomBy(factor) {
      half = Math.min(Math.max(half / factor, 0.05), 1e4);
      later();
    },
    panBy(dx, dy) {
      const scale = (2 * half * Math.max(1, canvas.clientHeight / canvas.clientWidth)) / canvas.clientHeight;
      const right = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 0);
      const up = new THREE.Vector3().setFromMatrixColumn(camera.matrixWorld, 1);
      center.addScaledVector(right, -dx * scale).addScaledVector(up, dy * scale);
      later();
    },
    choose(names) {
      chosen = new Set(names);
      mark();
      later();
    },
    get turn() {
      return turn;
    },
    get bodies() {
      return bodies;
    },
  };
}
