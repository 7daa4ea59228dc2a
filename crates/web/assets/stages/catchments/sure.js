// How sure it is: probabilities of streams and of a catchment on the map, seen while realisations are made.
import { hear } from '../../lib/events.js';
import { coloursOf, rampQuery } from '../../map/ramps.js';

/** The raster of probability that is shown of catchments; the first until another is chosen. */
const chosen = (map) => map.data.rasters[`catchment_probability_${map.divide ?? 1}`];

const streams = (map) => map.data.rasters.stream_probability;

const picture = (key, raster) => (map) =>
  raster(map) ? map.picture(key, raster(map), `?${rampQuery(map, key).slice(1)}`, false) : null;

function redrawn(map, key, raster) {
  map.layers[key]?.setSource(map.tiles(key, raster(map), `?${rampQuery(map, key).slice(1)}`, false));
  map.onStyled?.();
}

export const sureSpecs = [
  {
    key: 'probable',
    name: 'Probability of streams',
    place: 45,
    raster: {},
    build: picture('probable', streams),
    styled: (map) => redrawn(map, 'probable', streams),
    legend: (map, legend) => legend.ramp(coloursOf(map, 'probable'), 'seldom stream', 'always'),
  },
  {
    key: 'divide',
    name: 'Probability of a catchment',
    place: 46,
    opacity: 0.85,
    raster: {},
    build: picture('divide', chosen),
    styled: (map) => redrawn(map, 'divide', chosen),
    legend: (map, legend) => legend.ramp(coloursOf(map, 'divide'), 'seldom in it', 'always'),
  },
];

/** The part of the desk about it. */
export class Sure {
  constructor(page) {
    this.page = page;
    hear((e) => this.heard(e));
  }

  /** Results are kept while the job goes on: the map and the desk show them. */
  heard({ study, state, message }) {
    const { page } = this;
    if (state !== 'running' || study !== Number(page.map.study)) return;
    const shown = /; (\d+) are shown$/.exec(message ?? '')?.[1];
    if (!shown || shown === this.shown) return;
    this.shown = shown;
    page.fetchDesk();
    page.map.load().then(page.drawList, (error) => page.map.onProblem?.(error.message));
  }

  click(target) {
    const button = target.closest('[data-divide]');
    if (!button) return false;
    const { map, see } = this.page;
    map.divide = button.dataset.divide;
    if (map.layers.divide) redrawn(map, 'divide', chosen);
    see(['relief', 'divide', 'catchments']);
    return true;
  }
}
