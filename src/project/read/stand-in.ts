/**
 * What stands for a part of Node.js: each member is a function that says why it can't do anything. So what only looks for it,
 * keeps it or makes a class of it goes on.
 */
export function standInText(name: string): string {
  const why = JSON.stringify(`is a part of Node.js ('${name}') that does not exist in browsers`);
  return `const members = new Map();
module.exports = new Proxy({}, {
  get(target, key) {
    if (typeof key === 'symbol' || key === '__esModule' || key === 'then' || key === 'default' || key in target) return target[key];
    if (!members.has(key)) members.set(key, function () { throw new Error(${JSON.stringify(`${name}.`)} + key + ' ' + ${why}); });
    return members.get(key);
  },
});
`;
}
