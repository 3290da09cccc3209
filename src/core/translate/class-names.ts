import type { Class, Node, Program } from 'estree';
import { walk } from 'estree-walker';
import MagicString from 'magic-string';
import { parseSync } from 'oxc-parser';
import type { Spanned } from '../link/tree.js';

type Parsed = Node & Spanned;

/**
 * Lets classes without a name of their own keep the one that their place gives them (ECMA-262, NamedEvaluation), where static
 * members or private ones make a translation to ECMAScript 2021 or earlier put the class in another place. What is added stands at
 * the end of a class, so that nothing in it moves. The same text where it holds no such class, or can't be parsed.
 */
export function withClassNames(text: string, lang: 'js' | 'jsx' | 'ts' | 'tsx'): string {
  if (!/\bclass\s*(?:\{|<|(?:extends|implements)\b)/.test(text)) return text;
  const { program, errors } = parseSync(`module.${lang}`, text, {
    lang,
    sourceType: 'unambiguous' as 'module',
    preserveParens: false,
  });
  if (errors.length > 0) return text;
  const edited = new MagicString(text);
  walk(program as unknown as Program, {
    enter(node: Node, parent: Node | null) {
      if ((node.type !== 'ClassExpression' && node.type !== 'ClassDeclaration') || node.id || !isTakenApart(node)) return;
      const name = JSON.stringify(nameByPlace(node, parent));
      const { end } = node.body as Parsed;
      edited.appendLeft(end - 1, `;static{Object.defineProperty(this,"name",{value:${name},configurable:true})}`);
    },
  });
  return edited.hasChanged() ? edited.toString() : text;
}

/** Whether a class can't stay where it is, and leaves its name to the place. */
function isTakenApart({ body }: Class): boolean {
  let isApart = false;
  for (const member of body.body) {
    if (member.type === 'StaticBlock') isApart = true;
    else if ('key' in member) {
      if (member.key.type === 'PrivateIdentifier' || (member.type === 'PropertyDefinition' && member.static)) isApart = true;
      const isName =
        member.computed || ('name' in member.key ? member.key.name : 'value' in member.key && member.key.value) === 'name';
      if (member.static && isName) return false;
    }
  }
  return isApart;
}

/** The name that an anonymous class gets of where it stands. */
function nameByPlace(node: Node, parent: Node | null): string {
  switch (parent?.type) {
    case 'ExportDefaultDeclaration':
      return 'default';
    case 'VariableDeclarator':
      return nameOf(parent.id);
    case 'AssignmentPattern':
      return parent.right === node ? nameOf(parent.left) : '';
    case 'AssignmentExpression':
      return parent.right === node && /^(?:|\?\?|\|\||&&)=$/.test(parent.operator) ? nameOf(parent.left) : '';
    case 'Property':
    case 'PropertyDefinition':
      if (parent.value !== node || parent.computed) return '';
      return parent.key.type === 'Literal' ? String(parent.key.value) : nameOf(parent.key);
    default:
      return '';
  }
}

function nameOf(node: Node): string {
  if (node.type === 'PrivateIdentifier') return `#${node.name}`;
  return node.type === 'Identifier' ? node.name : '';
}
