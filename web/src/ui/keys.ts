/** True if a key press belongs to a field and not to the sheet. */
export function typing(event: KeyboardEvent): boolean {
  const t = event.target as HTMLElement;
  return /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName) || event.ctrlKey || event.metaKey || event.altKey;
}
