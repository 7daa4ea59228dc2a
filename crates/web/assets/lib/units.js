// Numbers with their units, as the pages write them.

/** A number with so many significant digits at least and at most, thousands apart. */
function digits(value, most) {
  const told = value.toLocaleString('en', {
    maximumSignificantDigits: most,
    minimumSignificantDigits: Math.min(most, 3),
  });
  return told.replaceAll(',', '\u202F');
}

/** An area in m², ha or km², by its size. */
export function area(m2) {
  if (m2 < 1e4) return `${digits(m2, 3)} m²`;
  if (m2 < 1e6) return `${digits(m2 / 1e4, 3)} ha`;
  return `${digits(m2 / 1e6, 4)} km²`;
}
