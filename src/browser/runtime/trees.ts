/** The trees of the page: the document, then open shadow roots and what templates hold. Closed ones can't be reached. */
function trees(): ParentNode[] {
  const all: ParentNode[] = [document];
  // Grows while it's walked.
  for (const tree of all)
    for (const element of tree.querySelectorAll('*')) {
      if (element.shadowRoot) all.push(element.shadowRoot);
      if (element instanceof HTMLTemplateElement) all.push(element.content);
    }
  return all;
}

/** The elements that fit a selector in all trees of the page, those of the document first. */
export function everywhere<E extends Element>(selector: string): E[] {
  return trees().flatMap((tree) => [...tree.querySelectorAll<E>(selector)]);
}

/** Whether an element stands in a template, where nothing is loaded. */
export function isInTemplate(element: Element): boolean {
  return !element.isConnected;
}
