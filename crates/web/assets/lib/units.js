// Numbers with their units, as the pages write them: in those that the visitor has chosen.

const FOOT = 0.3048;
const MILE = 5280 * FOOT;
const ACRE = 43560 * FOOT * FOOT;
const customary = document.documentElement.dataset.units === 'us';

/** Units from the largest down: from how many of the base unit on, symbol, size. */
const LENGTHS = customary
  ? [
      [MILE, 'mi', MILE],
      [0, 'ft', FOOT],
    ]
  : [
      [1000, 'km', 1000],
      [0, 'm', 1],
    ];
const AREAS = customary
  ? [
      [MILE * MILE, 'mi²', MILE * MILE],
      [ACRE, 'acres', ACRE],
      [0, 'ft²', FOOT * FOOT],
    ]
  : [
      [1e6, 'km²', 1e6],
      [1e4, 'ha', 1e4],
      [0, 'm²', 1],
    ];

/** The symbol of the unit that heights and distances are typed in, and how many metres it has. */
export const METRE = customary ? { symbol: 'ft', size: FOOT } : { symbol: 'm', size: 1 };

/**
 * A number with thin spaces between thousands, and a minus sign below zero.
 * @param {number} value
 * @param {Intl.NumberFormatOptions} [options]
 */
export const told = (value, options) =>
  value.toLocaleString('en', options).replaceAll(',', '\u202F').replace('-', '−');

export const whole = (n) => told(Math.round(n));

/** A number with so many significant digits. */
function digits(value, most) {
  return told(value, { maximumSignificantDigits: most, minimumSignificantDigits: Math.min(most, 3) });
}

function fitting(units, value) {
  const [, symbol, size] = units.find(([from]) => Math.abs(value) >= from) ?? units[units.length - 1];
  return [value / size, symbol];
}

/** An area with the unit that fits. */
export function area(m2) {
  const [value, symbol] = fitting(AREAS, m2);
  return `${digits(value, ['km²', 'mi²'].includes(symbol) && value >= 9.995 ? 4 : 3)} ${symbol}`;
}

/** A length with the unit that fits. */
export function length(m) {
  const [value, symbol] = fitting(LENGTHS, m);
  return `${digits(value, ['km', 'mi'].includes(symbol) && Math.abs(value) >= 9.995 ? 4 : 3)} ${symbol}`;
}

/** An elevation or depth with so many decimals. */
export function height(m, decimals = 2) {
  const options = { minimumFractionDigits: decimals, maximumFractionDigits: decimals };
  return `${told(m / METRE.size, options)} ${METRE.symbol}`;
}

/** A drainage density, of so many km/km². */
export function density(km) {
  return customary ? `${digits((km * MILE) / 1000, 3)} mi/mi²` : `${digits(km, 3)} km/km²`;
}
