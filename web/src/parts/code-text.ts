// Texts inside ready code.

/** A text as one word of a shell. */
export const word = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`;

/** A text of M, in which a quote is written twice and # begins a character code only before a parenthesis. */
export const inM = (text: string) => `"${text.replaceAll('"', '""').replaceAll('#(', '#(#)(')}"`;
