import type { BinaryExpression, Node } from 'estree';

/** Whether an expression gives a string, a number or the like, so that nothing is called to make one of it. */
export function isPrimitive(node: Node): boolean {
  switch (node.type) {
    case 'Literal':
      return !('regex' in node);
    case 'TemplateLiteral':
      return true;
    case 'UnaryExpression':
      return node.operator !== 'delete';
    case 'BinaryExpression':
      return true;
    case 'ConditionalExpression':
      return isPrimitive(node.consequent) && isPrimitive(node.alternate);
    case 'LogicalExpression':
      return isPrimitive(node.left) && isPrimitive(node.right);
    default:
      return false;
  }
}

/** Whether an operator neither calls what makes a primitive of an object, nor refuses what it's given. */
export function isHarmlessOperation({ operator, left, right }: BinaryExpression): boolean {
  if (operator === '===' || operator === '!==') return true;
  if (operator === 'in' || operator === 'instanceof' || !isPrimitive(left) || !isPrimitive(right)) return false;
  if (/^[<>=!]=?=?$/.test(operator) || !(mayBeBigInt(left) || mayBeBigInt(right))) return true;
  return /^[-+*]$/.test(operator) && isBigInt(left) && isBigInt(right);
}

/** Numbers of this kind go with their like only. */
export function mayBeBigInt(node: Node): boolean {
  switch (node.type) {
    case 'Literal':
      return isBigInt(node);
    case 'UnaryExpression':
      return mayBeBigInt(node.argument);
    case 'BinaryExpression':
    case 'LogicalExpression':
      return mayBeBigInt(node.left) || mayBeBigInt(node.right);
    case 'ConditionalExpression':
      return mayBeBigInt(node.consequent) || mayBeBigInt(node.alternate);
    default:
      return false;
  }
}

function isBigInt(node: Node): boolean {
  return node.type === 'UnaryExpression'
    ? node.operator === '-' && isBigInt(node.argument)
    : node.type === 'Literal' && typeof node.value === 'bigint';
}
