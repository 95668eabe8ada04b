// Colours by meaning. They are variables of the style sheet, so that they follow the theme.

/** The hue of a priority, for bars and drops; used for nothing else. */
export function hueOf(priority: number): string {
  return `var(--hue-${priority >= 1 && priority <= 4 ? priority : 1})`;
}

/** Lines of a trend, told apart also by the colour-blind; the legend names them. */
export const SERIES = 8;

export function seriesColour(index: number): string {
  return `var(--series-${(index % SERIES) + 1})`;
}

/** The value of a colour, for a canvas. */
export function resolved(colour: string): string {
  const name = /^var\((--[\w-]+)\)$/.exec(colour)?.[1];
  return name ? getComputedStyle(document.documentElement).getPropertyValue(name).trim() : colour;
}
