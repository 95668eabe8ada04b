// Putting something into a field where its caret is.

/** Puts a text where the caret stands, in place of what is selected, and the caret behind it. */
export function insertInto(box: HTMLInputElement | HTMLTextAreaElement | null, text: string, onChange: (whole: string) => void) {
  if (!box) return;
  const [from, to] = [box.selectionStart ?? box.value.length, box.selectionEnd ?? box.value.length];
  onChange(box.value.slice(0, from) + text + box.value.slice(to));
  requestAnimationFrame(() => {
    box.focus();
    box.setSelectionRange(from + text.length, from + text.length);
  });
}
