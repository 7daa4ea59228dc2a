// The stages in the order of the work. Each registers what it draws on the map, its part of the page, and its keys.
import { catchments } from './catchments/stage.js';
import { conditioning } from './conditioning/stage.js';
import { handover } from './handover/stage.js';
import { network } from './network/stage.js';
import { terrain } from './terrain/stage.js';

/**
 * A layer of the map.
 * @typedef {object} LayerSpec
 * @property {string} key  in addresses and styles
 * @property {string} name  in the list of what is drawn
 * @property {number} place  higher lies above lower
 * @property {(map: any) => any} build  the layer; nothing where the study has not got what it shows
 * @property {number} [opacity]  where it is not drawn in full
 * @property {string[]} [follows]  after what it is fetched anew: study, view, threshold, points, shown
 * @property {(map: any) => any} [load]  fetches what it shows
 * @property {(map: any) => boolean} [wanted]  whether it is fetched; while it is drawn where nothing is said
 * @property {(map: any) => void} [shows]  shows or hides it, where that is not its own affair
 * @property {(map: any, legend: import('../map/legend.js').Legend) => void} [legend]  draws its key
 * @property {import('../map/vector.js').Vector} [vector]  what can be chosen of a layer of features
 * @property {import('../map/ramps.js').Raster} [raster]  what can be chosen of colours and range
 * @property {(map: any, box: HTMLElement) => void} [controls]  adds what can be chosen of its style
 * @property {boolean} [quiet]  whether it stays out of the list of what is drawn
 * @property {boolean} [picture]  whether it is a picture behind the map
 * @property {string} [attribution]  whom it is owed to
 * @property {(map: any) => void} [styled]  takes up another style
 */

/**
 * A stage's part of the page; all of it may be missing.
 * @typedef {object} Part
 * @property {() => void} [prepare]  the desk has been fetched anew
 * @property {(target: Element) => boolean} [click]  a click on the page; whether it was taken
 * @property {(event: any) => void} [pick]  a click on the map while the stage is open
 * @property {(event: KeyboardEvent) => boolean} [key]  a key while the stage is open; whether it was taken
 * @property {(element: HTMLElement, go: boolean) => boolean} [chosen]  a row was chosen; whether it is shown
 * @property {() => (() => void)[]} [findings]  what N goes through before the desk's own
 * @property {(pixel: number[]) => { table: string, key: string } | null} [under]  the row of what lies there on the map
 * @property {(table: string, key: string) => any} [shapeOf]  the shape of a row on the map
 * @property {() => void} [moved]  the map was moved
 * @property {() => void} [left]  another stage was opened
 */

/**
 * A stage.
 * @typedef {object} Stage
 * @property {string} key  as in addresses
 * @property {string[]} drawn  layers drawn when the stage is opened first
 * @property {LayerSpec[]} layers
 * @property {(page: any) => Part} [begin]
 * @property {(page: any, part: any) => Record<string, () => void>} [keys]  keys that work on every stage
 */

/** @type {Stage[]} */
export const STAGES = [terrain, conditioning, network, catchments, handover];
