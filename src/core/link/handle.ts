/**
 * The name by which a linked module speaks to the runtime: `my`, or `my1`, `my2` … where the source itself uses it.
 * Also free: the handle with `_d`, which holds an anonymous default export, and with numbers behind `_`.
 */
export function chooseHandle(source: string): string {
  let handle = 'my';
  for (
    let number = 1;
    source.includes(handle) && new RegExp(`(?<![\\w$])${handle}(?:_(?:d|\\d+))?(?![\\w$])`).test(source);
    number++
  ) {
    handle = `my${number}`;
  }
  return handle;
}
