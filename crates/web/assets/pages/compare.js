// Side by side: two to four maps that move together and share one scale bar, or two by a swipe. Each shows the
// lines of a trial, or an area.
import { ask, notice } from '../lib/common.js';
import { METRE } from '../lib/units.js';
import { loadSides, sideLayer } from '../stages/network/sides.js';
import { areaLayer, loadArea } from '../stages/catchments/published.js';
import { Swipe } from '../map/swipe.js';

const ol = window.ol;
const box = document.getElementById('frames');
const base = `/studies/${box.dataset.study}`;
const data = await ask(`${base}/map`);
const dem = data.rasters.dem;
const extent = [dem.left, dem.top - dem.rows * dem.cell_y, dem.left + dem.cols * dem.cell_x, dem.top];
const projection = new ol.proj.Projection({
  code: `study-${box.dataset.study}`,
  extent,
  units: 'm',
  metersPerUnit: data.crs?.unit_m ?? 1,
});
const view = new ol.View({
  projection,
  maxResolution: Math.max(extent[2] - extent[0], extent[3] - extent[1]) / 200,
  minResolution: dem.cell_x / 32,
  showFullExtent: true,
});

function relief() {
  const resolutions = Array.from({ length: dem.levels }, (_, i) => dem.cell_x * 2 ** (dem.levels - 1 - i));
  const tileGrid = new ol.tilegrid.TileGrid({
    origin: [dem.left, dem.top],
    resolutions,
    tileSize: 256,
    extent,
  });
  const [low, high] = data.stretch ?? [0, 1];
  return new ol.layer.Tile({
    opacity: 0.55,
    source: new ol.source.TileImage({
      projection,
      tileGrid,
      transition: 0,
      wrapX: false,
      tileUrlFunction: ([z, x, y]) =>
        `${base}/tiles/dem/${dem.id}/${dem.levels - 1 - z}/${x}/${y}?low=${low}&high=${high}&azimuth=315&altitude=45`,
    }),
  });
}

/** What a frame shows: a layer, and how it is fetched for what is in view. */
function shownIn(figure) {
  const { area, color, lines } = figure.dataset;
  if (!area) {
    const layer = sideLayer();
    return { layer, load: (map) => loadSides(map, layer, lines) };
  }
  const layer = areaLayer(color);
  return { layer, load: () => (layer.getSource().isEmpty() ? loadArea(layer, area) : 1) };
}

const frames = [...box.querySelectorAll('figure')].map((figure, number) => {
  const shows = shownIn(figure);
  const { layer } = shows;
  layer.setVisible(true);
  const target = figure.querySelector('.frame');
  const map = new ol.Map({
    target,
    layers: [relief(), layer],
    view,
    keyboardEventTarget: target,
    controls: number === 0 ? undefined : [],
  });
  // One scale bar for all: each frame has the same view.
  if (number === 0)
    map.addControl(
      new ol.control.ScaleLine({ units: METRE.size === 1 ? 'metric' : 'imperial', minWidth: 90 }),
    );
  const load = async () => {
    try {
      target.dataset.lines = await shows.load(map);
    } catch (error) {
      notice(error.message, true);
    }
  };
  map.on('moveend', load);
  return { figure, map, target, layer, load };
});
view.fit(extent, { size: frames[0].map.getSize(), padding: [10, 10, 10, 10] });

// The second laid over the first, right of a handle.
const button = document.getElementById('swipe-trials');
/** what is laid over, its handle, and the half of the first that stays */
const shown = { over: null, swipe: null, left: null };
button?.addEventListener('click', () => {
  const on = button.getAttribute('aria-pressed') !== 'true';
  button.setAttribute('aria-pressed', String(on));
  const [first, second] = frames;
  box.classList.toggle('swiped', on);
  first.map.updateSize();
  if (!on) {
    shown.swipe?.end();
    first.map.removeLayer(shown.over);
    shown.left.end();
    second.map.updateSize();
    return;
  }
  const over_ = shownIn(second.figure);
  shown.over = over_.layer;
  first.map.addLayer(shown.over);
  const over = async () => {
    try {
      await over_.load(first.map);
    } catch (error) {
      notice(error.message, true);
    }
  };
  over();
  first.map.on('moveend', () => {
    if (first.map.getLayers().getArray().includes(shown.over)) over();
  });
  shown.swipe = new Swipe({
    map: first.map,
    target: first.target,
    names: [first, second].map((f) => f.figure.querySelector('strong').textContent),
  });
  shown.swipe.toggle(shown.over);
  shown.left = shown.swipe.keep(first.layer);
});
const [west, south, east, north] = (box.dataset.extent ?? '').split(' ').map(Number);
if (north > south)
  view.fit([west, south, east, north], { size: frames[0].map.getSize(), padding: [30, 30, 30, 30] });
document.body.dataset.ready = 'yes';
