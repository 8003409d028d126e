/**
 * Sets properties of an element's style from script. The policy lets no style stand in the HTML that the server renders
 * (Content Security Policy Level 3, §8.3), so what depends on figures is set once the page has taken over.
 */
export function styled(properties: Record<string, string>): (element: HTMLElement | null) => void {
  return (element) => {
    for (const [name, value] of Object.entries(properties)) element?.style.setProperty(name, value);
  };
}
