// Files out of the page.

/** Hands a file to the browser. */
export function save(name: string, content: Blob) {
  const link = document.createElement('a');
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  // The browser has taken it by the next turn.
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}
