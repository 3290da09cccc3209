import type { Node } from 'estree';
import { walk } from 'estree-walker';

/** Names that a pattern or a name declares. */
export function declaredIn(node: Node): string[] {
  switch (node.type) {
    case 'Identifier':
      return [node.name];
    case 'ObjectPattern':
      return node.properties.flatMap((member) => declaredIn(member.type === 'RestElement' ? member.argument : member.value));
    case 'ArrayPattern':
      return node.elements.flatMap((element) => (element ? declaredIn(element) : []));
    case 'AssignmentPattern':
      return declaredIn(node.left);
    case 'RestElement':
      return declaredIn(node.argument);
    default:
      return [];
  }
}

/** Names that `var` declares somewhere in a statement. */
export function hoistedNames(statement: Node): string[] {
  const names: string[] = [];
  walk(statement, {
    enter(node) {
      if (/^(?:Function|ArrowFunction|Class)/.test(node.type) || node.type === 'StaticBlock') return this.skip();
      if (node.type !== 'VariableDeclaration' || node.kind !== 'var') return;
      for (const { id } of node.declarations) names.push(...declaredIn(id));
    },
  });
  return names;
}
