// Dams and sites: what drains where, on the map and on the desk.
import { Latest } from '../../lib/latest.js';
import { fillPart } from '../../lib/part.js';
import { area } from '../../lib/units.js';
import { stroke } from '../../map/vector.js';

const ol = window.ol;
const [CLAY, PAPER, WATER, INK] = ['#B4532A', '#FFFDF8', '#0F5C63', '#22302E'];
const fill = (color) => new ol.style.Fill({ color });

const text = (label, offsetY) =>
  new ol.style.Text({
    text: label,
    offsetY,
    font: '600 12px "Source Sans 3"',
    fill: fill(INK),
    stroke: stroke(PAPER, 3.5),
  });

/** A mark: water that comes in points down, water that leaves points up. */
const mark = (points, angle, color, radius) =>
  new ol.style.RegularShape({ points, angle, radius, fill: fill(color), stroke: stroke(PAPER, 1.4) });

function style(f) {
  const label = f.get('label');
  switch (f.get('kind')) {
    case 'dam':
      return new ol.style.Style({
        image: mark(4, Math.PI / 4, f.get('warns') ? CLAY : WATER, 8),
        text: text(label, -16),
        zIndex: 4,
      });
    case 'inflow':
      return new ol.style.Style({
        image: mark(3, Math.PI, WATER, f.get('rank') === 1 ? 10 : 7.5),
        text: text(label, -16),
        zIndex: 3,
      });
    case 'outflow':
      return new ol.style.Style({ image: mark(3, 0, CLAY, 8), text: text(label, 16), zIndex: 3 });
    case 'way':
      return new ol.style.Style({ stroke: stroke(WATER, 2.4, [6, 4]), zIndex: 2 });
    default:
      // A side is the wider the more comes to it.
      return new ol.style.Style({
        stroke: stroke('#C9A227', 2 + 10 * Math.sqrt(f.get('share'))),
        zIndex: 1,
      });
  }
}

const asked = new Latest();

async function load(map) {
  const layer = map.layers.places;
  const told = await asked.ask(`${map.base}/places`);
  if (!told || !layer || layer !== map.layers.places) return;
  const source = layer.getSource();
  source.clear(true);
  const add = (kind, geometry, more) => source.addFeature(new ol.Feature({ kind, geometry, ...more }));
  const point = (at) => new ol.geom.Point(at);
  for (const dam of told.dams) {
    add('dam', point(dam.at), { label: `${dam.name}: ${area(dam.area)}`, warns: dam.warns });
  }
  for (const site of told.sites) {
    for (const side of site.sides) add('side', new ol.geom.LineString(side.line), { share: side.share });
    for (const i of site.inflows) {
      add('way', new ol.geom.LineString(i.way), {});
      add('inflow', point(i.at), { label: `${i.rank}: ${area(i.area)}`, rank: i.rank });
    }
    for (const o of site.outflows) add('outflow', point(o.at), { label: area(o.area) });
  }
  map.target.dataset.inflows = source.getFeatures().filter((f) => f.get('kind') === 'inflow').length;
}

export const placeSpec = {
  key: 'places',
  name: 'Dams and inflows',
  place: 72,
  build: (map) =>
    map.data.rasters.area
      ? new ol.layer.Vector({ source: new ol.source.Vector(), style, declutter: true })
      : null,
  follows: ['study', 'points', 'places', 'threshold', 'shown'],
  load,
};

/** The section of dams and sites. */
export class Places {
  constructor(page) {
    this.page = page;
    this.told = new Latest();
    for (const event of ['places-changed', 'layers-changed', 'points-changed']) {
      document.body.addEventListener(event, () => {
        page.map.refresh('places');
        if (this.here('places')) this.open();
      });
    }
    page.desk.addEventListener(
      'section-shown',
      (e) => {
        if (e.target.dataset?.section === 'places') this.open();
      },
      true,
    );
    page.desk.addEventListener('change', (e) => {
      if (e.target.id === 'points-along') this.prepare();
    });
  }

  here(section) {
    return this.page.stage === 'catchments' && this.page.sections.key === section;
  }

  /** What an interval along the stem is measured in follows what is chosen. */
  prepare() {
    const unit = document.querySelector('[data-unit-of-interval]');
    const along = document.getElementById('points-along');
    if (!(unit instanceof HTMLElement) || !(along instanceof HTMLSelectElement)) return;
    unit.textContent = along.value === 'area' ? unit.dataset.area : unit.dataset.length;
    const needs = {
      'points-order': ['heads'],
      'points-interval': ['length', 'area'],
      'points-stem': ['length', 'area'],
    };
    for (const [id, kinds] of Object.entries(needs)) {
      const hidden = !kinds.includes(along.value);
      document.getElementById(id).hidden = hidden;
      const label = document.querySelector(`label[for="${id}"]`);
      if (label instanceof HTMLElement) label.hidden = hidden;
    }
  }

  /** Dams and sites. */
  open() {
    const { page } = this;
    if (!page.map.shown.has('places')) page.see(['relief', 'streams', 'features', 'places', 'cells']);
    return fillPart('places', this.told, `${page.base}/places/told`, 'Following the water…');
  }
}
