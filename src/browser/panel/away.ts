let notice: HTMLElement | undefined;

const awayCss = `
:host { all: initial !important; }
p { position: fixed; inset: auto auto 10px 10px; z-index: 2147483646; margin: 0; padding: 3px 10px 3px 8px; box-sizing: border-box;
  font: 12px/1.5 system-ui, sans-serif; background: #f7f4ec; color: #22262a; border: 1px solid #ddd6c4; border-left: 4px solid #d9482b;
  border-radius: 0 4px 4px 0; pointer-events: none; opacity: .92; }
`;

/** Says, small and out of the way, that the dev server is gone, until `hideAway`. */
export function showAway(): void {
  if (notice) return;
  notice = document.createElement('spark-away');
  const shadow = notice.attachShadow({ mode: 'open' });
  const sheet = new CSSStyleSheet();
  sheet.replaceSync(awayCss);
  shadow.adoptedStyleSheets = [sheet];
  const text = document.createElement('p');
  text.setAttribute('role', 'status');
  text.textContent = 'Vine Spark cannot be reached; this page shows how it was.';
  shadow.append(text);
  document.documentElement.append(notice);
}

/** Takes it away. */
export function hideAway(): void {
  notice?.remove();
  notice = undefined;
}
