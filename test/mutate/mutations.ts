import ts from 'typescript';

/** A small change to a file: the characters from `from` to `to` become `now`. */
export interface Mutation {
  path: string;
  from: number;
  to: number;
  now: string;
}

const OPERATORS: Partial<Record<ts.SyntaxKind, string>> = {
  [ts.SyntaxKind.LessThanToken]: '<=',
  [ts.SyntaxKind.LessThanEqualsToken]: '<',
  [ts.SyntaxKind.GreaterThanToken]: '>=',
  [ts.SyntaxKind.GreaterThanEqualsToken]: '>',
  [ts.SyntaxKind.EqualsEqualsEqualsToken]: '!==',
  [ts.SyntaxKind.ExclamationEqualsEqualsToken]: '===',
  [ts.SyntaxKind.AmpersandAmpersandToken]: '||',
  [ts.SyntaxKind.BarBarToken]: '&&',
  [ts.SyntaxKind.PlusToken]: '-',
  [ts.SyntaxKind.MinusToken]: '+',
};

const METHODS: Record<string, string> = { some: 'every', every: 'some', min: 'max', max: 'min' };

/** What statements of SQL hold, and what is put in its place. */
const SQL: [RegExp, string][] = [
  [/ and (?=[a-z$(])/g, ' or '],
  [/ is null/g, ' is not null'],
  [/ is not null/g, ' is null'],
  [/ < /g, ' <= '],
  [/ >= /g, ' > '],
];

/** The small changes that could be made to a file. Those that no test can notice, such as in what is only said, are left out. */
export function mutationsOf(path: string, text: string): Mutation[] {
  const found: Mutation[] = [];
  const file = ts.createSourceFile(path, text, ts.ScriptTarget.ES2022, true);
  const add = (from: number, to: number, now: string) => found.push({ path, from, to, now });
  const visit = (node: ts.Node): void => {
    if (ts.isTypeNode(node) || ts.isImportDeclaration(node) || ts.isInterfaceDeclaration(node)) return;
    // Words for people, and bounds of time and space that no fast test can wait for.
    if (ts.isVariableStatement(node) && /const [A-Z_]+ =/.test(node.getText())) return;
    if (ts.isNewExpression(node) && /Problem|Error/.test(node.expression.getText())) return;
    if (ts.isBinaryExpression(node)) {
      const other = OPERATORS[node.operatorToken.kind];
      const joinsText = node.operatorToken.kind === ts.SyntaxKind.PlusToken && /['`]/.test(node.getText());
      if (other && !joinsText) add(node.operatorToken.getStart(), node.operatorToken.getEnd(), other);
    } else if (node.kind === ts.SyntaxKind.TrueKeyword) add(node.getStart(), node.getEnd(), 'false');
    else if (node.kind === ts.SyntaxKind.FalseKeyword) add(node.getStart(), node.getEnd(), 'true');
    else if (ts.isPropertyAccessExpression(node)) {
      const other = METHODS[node.name.text];
      if (other && ts.isCallExpression(node.parent)) add(node.name.getStart(), node.name.getEnd(), other);
    } else if (ts.isPrefixUnaryExpression(node) && node.operator === ts.SyntaxKind.ExclamationToken)
      add(node.getStart(), node.operand.getStart(), '');
    else if (ts.isIfStatement(node) && !node.elseStatement && isExit(node.thenStatement))
      add(node.getStart(), node.getEnd(), ';');
    else if (ts.isNoSubstitutionTemplateLiteral(node) || ts.isTemplateExpression(node) || ts.isStringLiteral(node)) {
      const own = node.getText();
      if (/\b(select|update|insert|delete)\b/.test(own))
        for (const [pattern, now] of SQL)
          for (const match of own.matchAll(pattern))
            add(node.getStart() + match.index, node.getStart() + match.index + match[0].length, now);
    }
    ts.forEachChild(node, visit);
  };
  visit(file);
  return found;
}

/** Whether a statement only leaves: a check whose loss may go unnoticed. */
function isExit(statement: ts.Statement): boolean {
  return (
    ts.isThrowStatement(statement) ||
    ts.isReturnStatement(statement) ||
    ts.isContinueStatement(statement) ||
    (ts.isBlock(statement) && statement.statements.length === 1 && isExit(statement.statements[0] as ts.Statement))
  );
}
