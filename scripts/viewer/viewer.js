// The viewer of a written 3D scene: draws what the page holds, switches layers, plays stops, reads out records.
// The scene is data only: words are set as text, never as markup, and nothing is fetched.
import '@kitware/vtk.js/Rendering/Profiles/Geometry';
import vtkActor from '@kitware/vtk.js/Rendering/Core/Actor';
import vtkDataArray from '@kitware/vtk.js/Common/Core/DataArray';
import vtkGenericRenderWindow from '@kitware/vtk.js/Rendering/Misc/GenericRenderWindow';
import vtkMapper from '@kitware/vtk.js/Rendering/Core/Mapper';
import vtkPolyData from '@kitware/vtk.js/Common/DataModel/PolyData';
import vtkTexture from '@kitware/vtk.js/Rendering/Core/Texture';

const scene = JSON.parse(document.getElementById('scene').textContent);
const byId = (id) => document.getElementById(id);

function numbers(packed, Kind) {
  const text = atob(packed);
  const bytes = new Uint8Array(text.length);
  for (let k = 0; k < text.length; k += 1) bytes[k] = text.charCodeAt(k);
  return new Kind(bytes.buffer);
}

function node(kind, words, parent, name) {
  const made = document.createElement(kind);
  if (words) made.textContent = words;
  if (name) made.className = name;
  if (parent) parent.appendChild(made);
  return made;
}

const holder = byId('view');
const view = vtkGenericRenderWindow.newInstance({ background: scene.background });
view.setContainer(holder);
const renderer = view.getRenderer();
const windowOf = view.getRenderWindow();
const camera = renderer.getActiveCamera();
renderer.setTwoSidedLighting(true);

function actorOf(part) {
  const mesh = vtkPolyData.newInstance();
  mesh.getPoints().setData(numbers(part.points, Float32Array), 3);
  for (const [kind, getter] of [['polys', 'getPolys'], ['lines', 'getLines'], ['verts', 'getVerts']]) {
    if (part[kind]) mesh[getter]().setData(numbers(part[kind], Uint32Array));
  }
  if (part.normals) {
    mesh.getPointData().setNormals(
      vtkDataArray.newInstance({ name: 'normals', numberOfComponents: 3, values: numbers(part.normals, Float32Array) })
    );
  }
  const mapper = vtkMapper.newInstance();
  if (part.colours) {
    const values = numbers(part.colours, Uint8Array);
    const array = vtkDataArray.newInstance({ name: 'colour', numberOfComponents: 3, values });
    (part.by === 'cell' ? mesh.getCellData() : mesh.getPointData()).setScalars(array);
    mapper.setColorModeToDirectScalars();
    if (part.by === 'cell') mapper.setScalarModeToUseCellData();
    else mapper.setScalarModeToUsePointData();
  } else {
    mapper.setScalarVisibility(false);
  }
  const actor = vtkActor.newInstance();
  if (part.texture) {
    mesh.getPointData().setTCoords(
      vtkDataArray.newInstance({ name: 'at', numberOfComponents: 2, values: numbers(part.at, Float32Array) })
    );
    const texture = vtkTexture.newInstance({ interpolate: true });
    const image = new Image();
    image.onload = () => {
      texture.setImage(image);
      actor.addTexture(texture);
      mesh.modified();
      draw();
    };
    image.src = part.texture;
  }
  mapper.setInputData(mesh);
  actor.setMapper(mapper);
  const look = actor.getProperty();
  look.setColor(...part.colour);
  look.setOpacity(part.opacity);
  look.setPointSize(part.size);
  look.setLineWidth(part.width);
  look.setLighting(part.shaded);
  look.setAmbient(0.4);
  look.setDiffuse(0.7);
  actor.setScale(1, 1, scene.exaggeration);
  renderer.addActor(actor);
  return actor;
}

const overlay = byId('words');
const layers = scene.layers.map((layer) => {
  const actors = layer.parts.map(actorOf);
  const labels = layer.labels.map((label) => ({ ...label, node: node('span', label.words, overlay, 'label') }));
  const records = layer.records.words.length
    ? { at: numbers(layer.records.at, Float32Array), words: layer.records.words }
    : { at: new Float32Array(0), words: [] };
  return { name: layer.name, shown: layer.shown, actors, labels, records };
});

function project(x, y, z) {
  const { width, height } = holder.getBoundingClientRect();
  const ratio = width / Math.max(height, 1);
  const m = camera.getCompositeProjectionMatrix(ratio, -1, 1);
  const p = [x, y, z * scene.exaggeration, 1];
  const out = [0, 1, 2, 3].map((r) => m[4 * r] * p[0] + m[4 * r + 1] * p[1] + m[4 * r + 2] * p[2] + m[4 * r + 3]);
  if (out[3] <= 0) return null;
  return [((out[0] / out[3] + 1) / 2) * width, ((1 - out[1] / out[3]) / 2) * height, out[2] / out[3]];
}

function placeLabels() {
  const taken = [];
  for (const layer of [...layers].reverse()) {
    for (const label of layer.labels) {
      const at = layer.shown ? project(...label.at) : null;
      let free = at !== null;
      if (free) {
        const wide = 3.4 * label.words.length + 4;
        const box = [at[0] - wide, at[1] - 8, at[0] + wide, at[1] + 8];
        free = !taken.some((t) => box[0] < t[2] && box[2] > t[0] && box[1] < t[3] && box[3] > t[1]);
        if (free) taken.push(box);
      }
      label.node.hidden = !free;
      if (free) {
        label.node.style.left = `${at[0]}px`;
        label.node.style.top = `${at[1]}px`;
      }
    }
  }
  const d = camera.getDirectionOfProjection();
  const azimuth = ((Math.atan2(d[0], d[1]) * 180) / Math.PI + 360) % 360;
  const down = (Math.asin(Math.max(-1, Math.min(1, -d[2]))) * 180) / Math.PI;
  byId('looking').textContent =
    `looking ${String(Math.round(azimuth) % 360).padStart(3, '0')}°, ${Math.abs(Math.round(down))}° ${down >= 0 ? 'down' : 'up'}` +
    `   vertical ×${scene.exaggeration}`;
}

function draw() {
  renderer.resetCameraClippingRange();
  windowOf.render();
  placeLabels();
}

function show(layer, on) {
  layer.shown = on;
  layer.actors.forEach((actor) => actor.setVisibility(on));
  layer.box.checked = on;
  for (const legend of scene.legends) {
    if (legend.box) legend.box.hidden = !layers.some((l) => l.shown && legend.layers.includes(l.name));
  }
}

function look(data) {
  const f = scene.exaggeration;
  camera.setPosition(data[0], data[1], data[2] * f);
  camera.setFocalPoint(data[3], data[4], data[5] * f);
  camera.setViewUp(data[6], data[7], data[8]);
  camera.setViewAngle(data[9]);
}

let here = 0;
function go(number) {
  const stop = scene.stops[number];
  if (!stop) return;
  here = number;
  scene.exaggeration = stop.exaggeration || 1;
  layers.forEach((layer) => layer.actors.forEach((actor) => actor.setScale(1, 1, scene.exaggeration)));
  look(stop.camera);
  if (stop.lit) layers.forEach((layer) => show(layer, stop.lit.includes(layer.name)));
  byId('caption').textContent = stop.caption || stop.name;
  byId('count').textContent = `${number + 1} of ${scene.stops.length}`;
  [...byId('stops').children].forEach((each, k) => each.setAttribute('aria-pressed', String(k === number)));
  draw();
}

function nearest(x, y) {
  let best = null;
  for (const layer of layers) {
    if (!layer.shown) continue;
    const { at, words } = layer.records;
    for (let k = 0; k < words.length; k += 1) {
      const p = project(at[3 * k], at[3 * k + 1], at[3 * k + 2]);
      if (!p) continue;
      const away = Math.hypot(p[0] - x, p[1] - y);
      if (away < 10 && (!best || away < best.away - 2 || (away < best.away + 2 && p[2] < best.deep))) {
        best = { away, deep: p[2], words: words[k], layer: layer.name };
      }
    }
  }
  return best;
}

// ---- the page

document.title = scene.title;
byId('title').textContent = scene.title;
for (const legend of scene.legends) {
  const box = node('div', '', byId('legend'), 'legend');
  legend.box = box;
  node('h3', legend.title, box);
  if (legend.ramp) {
    const bar = node('div', '', box, 'ramp');
    bar.style.background = `linear-gradient(to right, ${legend.ramp.join(', ')})`;
    const ticks = node('div', '', box, 'ticks');
    legend.ticks.forEach((tick) => node('span', tick, ticks));
  }
  for (const each of legend.classes || []) {
    const row = node('div', '', box, 'class');
    node('i', '', row).style.background = each.colour;
    node('span', each.name, row);
  }
}
for (const layer of layers) {
  const row = node('label', '', byId('layers'));
  layer.box = node('input', '', row);
  layer.box.type = 'checkbox';
  node('span', layer.name, row);
  layer.box.addEventListener('change', () => {
    show(layer, layer.box.checked);
    draw();
  });
  show(layer, layer.shown);
}
scene.stops.forEach((stop, number) => {
  const button = node('button', stop.name, byId('stops'));
  button.type = 'button';
  button.addEventListener('click', () => go(number));
});
byId('walk').hidden = scene.stops.length < 2;
byId('next').addEventListener('click', () => go((here + 1) % scene.stops.length));
byId('back').addEventListener('click', () => go((here + scene.stops.length - 1) % scene.stops.length));
byId('panel-switch').addEventListener('click', () => {
  document.body.classList.toggle('alone');
  view.resize();
  draw();
});
document.addEventListener('keydown', (event) => {
  if (event.target.tagName === 'INPUT' && event.key === ' ') return;
  if (event.key === 'PageDown' || event.key === 'n') go((here + 1) % scene.stops.length);
  else if (event.key === 'PageUp' || event.key === 'b') go((here + scene.stops.length - 1) % scene.stops.length);
  else return;
  event.preventDefault();
});
holder.addEventListener('pointermove', (event) => {
  const box = holder.getBoundingClientRect();
  const hit = nearest(event.clientX - box.left, event.clientY - box.top);
  byId('read').textContent = hit ? hit.words : '';
});
let asked = false;
camera.onModified(() => {
  if (asked) return;
  asked = true;
  requestAnimationFrame(() => {
    asked = false;
    placeLabels();
  });
});
new ResizeObserver(() => {
  view.resize();
  draw();
}).observe(holder);
view.resize();
go(0);

// What tests and other scripts may ask.
window.innerLamp = {
  layers: () => layers.map((l) => ({ name: l.name, shown: l.shown, records: l.records.words.length })),
  record: (name, k) => {
    const layer = layers.find((l) => l.name === name);
    const at = [...layer.records.at.slice(3 * k, 3 * k + 3)].map((v, c) => v + scene.origin[c]);
    return { at, words: layer.records.words[k] };
  },
  points: (name) => {
    const layer = layers.find((l) => l.name === name);
    return layer.actors.map((a) => a.getMapper().getInputData().getPoints().getNumberOfPoints());
  },
  go,
  here: () => here,
  project,
  nearest,
  camera: () => [...camera.getPosition(), ...camera.getFocalPoint()],
};
