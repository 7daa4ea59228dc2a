// The Catchments stage: pour points placed and moved, catchments drawn.
import { notice, query, send } from '../../lib/common.js';
import { Latest } from '../../lib/latest.js';
import { area } from '../../lib/units.js';
import { fillOf, labelOf, stroke, strokeOf, styleOf } from '../../map/vector.js';
import { placeSpec, Places } from './places.js';
import { elsewhereSpec, Published, publishedSpec } from './published.js';
import { Subbasins, subbasinSpec } from './subbasins.js';
import { Sure, sureSpecs } from './sure.js';

const ol = window.ol;
const [CLAY, PAPER] = ['#B4532A', '#FFFDF8'];

const fill = (color) => new ol.style.Fill({ color });

const colourOf = (map, at) => map.data.basin_colours[at % map.data.basin_colours.length];

/** How a feature of the layer is drawn: catchment, place as given, move, pour point. */
const style = (map) => (f) => {
  const now = styleOf(map, 'catchments');
  switch (f.get('kind')) {
    case 'catchment':
      return new ol.style.Style({
        // Where something finer is drawn, their outlines are enough.
        fill: ['subbasins', 'published', 'elsewhere', 'divide'].some((key) => map.shown.has(key))
          ? undefined
          : fillOf(now, colourOf(map, f.get('at'))),
        // One that the edge of the DEM cuts is told from the others.
        stroke: strokeOf(f.get('edge') ? { ...now, dash: now.dash === 'dashed' ? 'dotted' : 'dashed' } : now),
        zIndex: 1,
      });
    case 'move':
      return new ol.style.Style({
        stroke: stroke(CLAY, 1.6, [3, 3]),
        zIndex: 3,
      });
    case 'given':
      return new ol.style.Style({
        image: new ol.style.Circle({
          radius: 4,
          stroke: stroke(CLAY, 1.6),
          fill: fill(PAPER),
        }),
        zIndex: 3,
      });
    default:
      return new ol.style.Style({
        image: new ol.style.RegularShape({
          points: 4,
          radius: 8,
          fill: fill(CLAY),
          stroke: stroke(PAPER, 1.6),
        }),
        text: labelOf(now, now.label && f.get(`label-${now.label}`), {
          offsetY: -17,
        }),
        zIndex: 4,
      });
  }
};

const last = new Latest();

async function loadCatchments(map) {
  const layer = map.layers.catchments;
  const points = await last.ask(`${map.base}/catchments`);
  if (!points || layer !== map.layers.catchments) return;
  const source = layer.getSource();
  source.clear();
  // Larger ones lie below those that nest in them.
  points.sort((a, b) => (b.catchment?.area_km2 ?? 0) - (a.catchment?.area_km2 ?? 0));
  for (const p of points) {
    const add = (kind, geometry, more = {}) =>
      source.addFeature(new ol.Feature({ kind, geometry, at: p.number - 1, ...more }));
    if (p.outline)
      add('catchment', new ol.geom.MultiPolygon(p.outline), {
        edge: p.catchment.edge_cells > 0,
      });
    add('given', new ol.geom.Point([p.x, p.y]));
    if (p.catchment) {
      const snapped = [p.catchment.x, p.catchment.y];
      add('move', new ol.geom.LineString([[p.x, p.y], snapped]));
      add('point', new ol.geom.Point(snapped), {
        'label-name': `${p.number} ${p.name}`,
        'label-number': String(p.number),
        'label-area': area(p.catchment.area_km2 * 1e6),
      });
    }
  }
  map.target.dataset.catchments = points.filter((p) => p.outline).length;
  mask(map, points);
}

/** Hides what lies outside the catchment that is shown alone. */
function mask(map, points) {
  const source = map.layers.mask?.getSource();
  if (!source) return;
  source.clear();
  const alone = points.find((p) => p.id === map.views.style.mask?.point && p.outline);
  map.target.dataset.masked = alone ? alone.id : '';
  if (!alone) return;
  const [w, s, e, n] = map.extent;
  const far = 3 * Math.max(e - w, n - s);
  const around = [
    [w - far, s - far],
    [e + far, s - far],
    [e + far, n + far],
    [w - far, n + far],
    [w - far, s - far],
  ];
  const holes = alone.outline.map(([ring]) => ring);
  source.addFeature(new ol.Feature(new ol.geom.Polygon([around, ...holes])));
}

/** The part of the page that is about Catchments. */
class Catchments {
  constructor(page) {
    this.page = page;
    this.typed = new Latest();
    this.subbasins = new Subbasins(page);
    this.places = new Places(page);
    this.published = new Published(page);
    this.sure = new Sure(page);
    document.body.addEventListener('points-changed', () => {
      page.refreshParts();
      page.fetchDesk();
      page.map.refresh('points');
    });
    document.body.addEventListener('measures-changed', () => this.measure());
    page.desk.addEventListener('change', (e) => {
      if (e.target.id === 'mask-map') this.mask(e.target.checked);
      if (e.target.id === 'zonal-point') this.inside();
      if (e.target.id !== 'measured-point') return;
      this.measured = e.target.value;
      document.getElementById('beside')?.replaceChildren();
      page.map.layers.elsewhere?.getSource().clear();
      if (this.masked) this.mask(true);
      this.measure();
    });
    page.desk.addEventListener(
      'section-shown',
      (e) => {
        if (e.target.dataset?.section === 'measures') this.measure();
        if (e.target.dataset?.section === 'rasters') this.inside();
      },
      true,
    );
    page.desk.addEventListener('submit', (e) => {
      if (e.target.id !== 'beside-form') return;
      e.preventDefault();
      const { desk } = page;
      const { point, area: at } = Object.fromEntries(new FormData(e.target));
      const study = /^study-(\d+)$/.exec(String(point))?.[1];
      this.tell('beside', `beside?${query(study ? { study } : point ? { point } : { area: at })}`);
      this.published.drawElsewhere(study ? desk.querySelector('#measured-point').value : null, study);
    });
    page.desk.addEventListener('input', (e) => e.target.id === 'place' && this.read(e.target.value));
    page.desk.addEventListener('focusout', (e) => e.target.id === 'place' && page.map.point(null));
    // A place of the long profile is shown on the map, and a place of the stem on the profile.
    page.desk.addEventListener('chart-row', (e) => {
      const places = this.placesOf(e.target);
      if (places) page.map.point(e.detail === null ? null : new ol.geom.Point(places[e.detail]));
    });
  }

  /** The desk has been fetched anew. */
  prepare() {
    this.places.prepare();
    this.published.prepare();
    const choice = this.page.desk.querySelector('#measured-point');
    if (choice && [...choice.options].some(({ value }) => value === this.measured))
      choice.value = this.measured;
    const mask = this.page.desk.querySelector('#mask-map');
    if (mask) mask.checked = this.masked;
  }

  /** Whether one catchment is shown alone. */
  get masked() {
    return Boolean(this.page.map.views.style.mask?.point);
  }

  /** Shows the chosen catchment alone on the map, or all. */
  mask(on) {
    const { map, desk } = this.page;
    const point = on ? Number(desk.querySelector('#measured-point')?.value) : null;
    map.views.set('mask', { point });
    map.refresh('points');
  }

  /** Tells how a place that is typed is understood, and marks it. */
  async read(text) {
    const { base, map } = this.page;
    const place = document.getElementById('place-read');
    let told = null;
    if (text.trim().length > 3) {
      try {
        told = await this.typed.ask(`${base}/pour-point-typed?${query({ text })}`);
        if (told === undefined) return;
      } catch (error) {
        told = { text: error.message };
      }
    }
    if (!place?.isConnected) return;
    place.textContent = told?.text ?? '';
    map.point(told?.x === undefined ? null : new ol.geom.Point([told.x, told.y]));
  }

  /** What rasters hold inside a catchment. */
  inside() {
    const choice = document.getElementById('zonal-point');
    if (choice) this.tell('zonal', 'zonal', choice);
  }

  /** Fetches a part about the chosen catchment. */
  async tell(id, address, choice = this.page.desk.querySelector('#measured-point')) {
    const { base } = this.page;
    const part = document.getElementById(id);
    part.innerHTML = '<p class="working" role="status">Measuring…</p>';
    const answer = await fetch(`${base}/pour-points/${choice.value}/${address}`);
    const html = await answer.text();
    if (!part.isConnected) return;
    if (answer.ok) part.innerHTML = html;
    else {
      part.replaceChildren();
      notice(html, true);
    }
  }

  /** Where the points of a chart lie on the map, if it tells. */
  placesOf(chart) {
    const told = chart.closest('[data-places-of-chart]')?.dataset.placesOfChart;
    return told ? JSON.parse(told) : null;
  }

  /** Fetches what is measured of the catchment that is chosen. */
  async measure() {
    const { desk, base } = this.page;
    const choice = desk.querySelector('#measured-point');
    const place = desk.querySelector('#measures');
    if (!choice || !place) return;
    if (!place.childElementCount) place.innerHTML = '<p class="working" role="status">Measuring…</p>';
    const answer = await fetch(`${base}/pour-points/${choice.value}/measures`);
    const html = await answer.text();
    if (desk.querySelector('#measures') !== place) return;
    if (!answer.ok) {
      place.replaceChildren();
      notice(html, true);
      return;
    }
    place.innerHTML = html;
    window.htmx.process(place);
  }

  /** A click on the map. */
  pick({ coordinate }) {
    this.subbasins.pick(coordinate);
  }

  /** The shape of a row on the map. */
  shapeOf(table, key) {
    return table === 'subbasins' ? this.subbasins.shapeOf(key) : null;
  }

  click(target) {
    if (this.subbasins.click(target)) return true;
    if (this.published.click(target)) return true;
    if (this.sure.click(target)) return true;
    if (target.closest('[data-way-down]')) {
      this.wayDown();
      return true;
    }
    if (target.closest('[data-place]')) {
      this.place();
      return true;
    }
    const move = target.closest('[data-move]');
    if (!move) return false;
    const { base } = this.page;
    const text = `Click where ${move.dataset.name} belongs. Esc leaves.`;
    this.page.enter(
      {
        place: ([x, y]) => send(`${base}/pour-points/${move.dataset.move}/move`, { x, y }),
        hover: this.before(text),
      },
      text,
    );
    return true;
  }

  /** The long profile of the way down from a place that is clicked. */
  wayDown() {
    const { base, enter } = this.page;
    const asked = new Latest();
    const place = async ([x, y]) => {
      const part = document.getElementById('way-down');
      try {
        const html = await asked.text(`${base}/way-down?x=${x}&y=${y}`);
        if (html === undefined || !part.isConnected) return;
        part.innerHTML = html;
        part.scrollIntoView({ block: 'nearest' });
      } catch (error) {
        notice(error.message, true);
      }
    };
    enter({ place }, 'Click where the water is to be followed from. Esc leaves.');
  }

  async place() {
    const { page } = this;
    if (!page.map.layers.catchments) {
      notice('Pour points need flow directions: fill sinks and route flow first.', true);
      return;
    }
    if (page.stage !== 'catchments') await page.openStage('catchments');
    const text =
      'Click where the catchment is asked for, or press Enter for the middle of the map. Esc leaves.';
    page.enter(
      { place: ([x, y]) => send(`${page.base}/pour-points`, { x, y }), hover: this.before(text) },
      text,
    );
  }

  /** Tells, before the click, what drains where the pointer is, and where a point would snap. */
  before(text) {
    const { base, map } = this.page;
    const asked = new Latest();
    const mode = document.getElementById('mode');
    return async ([x, y]) => {
      let told = null;
      try {
        told = await asked.ask(`${base}/pour-point-here?x=${x}&y=${y}`);
      } catch (error) {
        // Outside the DEM, or too far from a stream: that is what there is to tell.
        told = { text: error.message };
      }
      if (!told || mode.hidden) return;
      mode.textContent = `${told.text} ${text}`;
      mode.classList.toggle('warns', Boolean(told.warns));
      map.point(told.x === undefined ? null : new ol.geom.Point([told.x, told.y]));
    };
  }
}

export const catchments = {
  key: 'catchments',
  drawn: ['relief', 'streams', 'catchments', 'cells'],
  layers: [
    subbasinSpec,
    ...sureSpecs,
    {
      key: 'mask',
      name: 'Mask',
      place: 95,
      quiet: true,
      build: (map) => {
        if (!map.data.rasters.area) return null;
        const style = new ol.style.Style({ fill: fill('#ECE5D8') });
        return new ol.layer.Vector({ source: new ol.source.Vector(), style });
      },
      // It is there as long as a catchment is shown alone.
      shows: () => {},
    },
    publishedSpec,
    elsewhereSpec,
    placeSpec,
    {
      key: 'catchments',
      name: 'Catchments',
      vector: {
        key: 'catchments',
        fills: true,
        labels: [
          ['name', 'number and name'],
          ['number', 'number'],
          ['area', 'area'],
        ],
      },
      styled: (map) => map.layers.catchments?.changed(),
      place: 60,
      build: (map) => {
        if (!map.data.rasters.area) return null;
        return new ol.layer.Vector({
          source: new ol.source.Vector(),
          style: style(map),
          declutter: false,
        });
      },
      follows: ['study', 'points'],
      wanted: () => true,
      load: loadCatchments,
    },
  ],
  begin: (page) => new Catchments(page),
  keys: (_page, part) => ({ p: () => part.place() }),
};
