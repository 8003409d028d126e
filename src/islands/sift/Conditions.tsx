import { type FormEvent, useState } from 'react';
import { parseCriteria } from '../../core/criteria/parse';
import { printCriteria, printText } from '../../core/criteria/print';
import { FIELDS, type Field, FLAG_TESTS, operatorsOf, WORDS_OF } from '../../core/criteria/tree';
import { conditionsOf, whereOf } from '../../ui/criteria/conditions';
import { text } from '../../ui/text';

/** The conditions one by one, each to be taken away, and a way to add any other without typing an expression. */
export function Conditions({ where, onChange }: { where: string; onChange(where: string): void }) {
  const [adding, setAdding] = useState(false);
  const conditions = conditionsOf(where);
  const without = (index: number) => onChange(whereOf(conditions.filter((_, at) => at !== index)));
  return (
    <div className="flex flex-wrap items-center gap-2">
      {conditions.map((condition, index) => {
        const printed = printCriteria(condition);
        return (
          <span
            key={printed}
            className="inline-flex items-center gap-1.5 rounded-[3px] border border-line bg-sheet py-px pr-1 pl-2 text-[12px]"
          >
            <span className="font-mono">{printed}</span>
            <button
              type="button"
              className="min-h-5 min-w-5 pointer-coarse:min-h-11 pointer-coarse:min-w-11"
              aria-label={text.sift.takeAway(printed)}
              onClick={() => without(index)}
            >
              ×
            </button>
          </span>
        );
      })}
      {adding ? (
        <NewCondition
          onAdd={(condition) => {
            setAdding(false);
            onChange(where === '' ? condition : whereOf([...conditions, ...conditionsOf(condition)]));
          }}
          onCancel={() => setAdding(false)}
        />
      ) : (
        <button type="button" className="link" onClick={() => setAdding(true)}>
          {text.sift.addCondition}
        </button>
      )}
    </div>
  );
}

const SUBJECTS = Object.keys(FIELDS) as Field[];

/** What a value looks like, by what the field is compared with. */
const EXAMPLES = { octets: '5 MiB', count: '1', age: '1y', day: '2021-07-01', text: '' } as const;

function NewCondition({ onAdd, onCancel }: { onAdd(condition: string): void; onCancel(): void }) {
  const [field, setField] = useState<Field | 'flag'>('size');
  const [op, setOp] = useState('>=');
  const [value, setValue] = useState('');
  const operators = field === 'flag' ? [] : operatorsOf(field);
  const words = field === 'flag' ? FLAG_TESTS.filter((name) => name !== 'guarded') : WORDS_OF[field];
  const typed = value || (words?.[0] ?? '');
  const quoted = field !== 'flag' && FIELDS[field] === 'text' && !words;
  const condition = field === 'flag' ? typed : `${field} ${op} ${quoted && typed !== '' ? printText(typed) : typed}`;
  const parsed = parseCriteria(condition);
  const choose = (next: Field | 'flag') => {
    setField(next);
    setValue('');
    if (next !== 'flag' && !operatorsOf(next).includes(op as never)) setOp(operatorsOf(next)[0] as string);
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (parsed.ok && typed !== '') onAdd(condition);
  };
  return (
    <form
      onSubmit={submit}
      className="flex flex-wrap items-center gap-2"
      onKeyDown={(event) => event.key === 'Escape' && onCancel()}
    >
      <select
        aria-label={text.sift.conditionField}
        className="field"
        value={field}
        onChange={(event) => choose(event.target.value as Field)}
      >
        {SUBJECTS.map((name) => (
          <option key={name} value={name}>
            {text.fields[name]}
          </option>
        ))}
        <option value="flag">{text.sift.flags}</option>
      </select>
      {field !== 'flag' && (
        <select
          aria-label={text.sift.conditionOperator}
          className="field"
          value={op}
          onChange={(event) => setOp(event.target.value)}
        >
          {operators.map((one) => (
            <option key={one} value={one}>
              {text.operators[one]}
            </option>
          ))}
        </select>
      )}
      {words ? (
        <select
          aria-label={text.sift.conditionValue}
          className="field"
          value={typed}
          onChange={(event) => setValue(event.target.value)}
        >
          {words.map((word) => (
            <option key={word}>{word}</option>
          ))}
        </select>
      ) : (
        <input
          aria-label={text.sift.conditionValue}
          aria-invalid={value !== '' && !parsed.ok}
          className="field w-40"
          placeholder={field === 'flag' ? '' : EXAMPLES[FIELDS[field]]}
          value={value}
          onChange={(event) => setValue(event.target.value)}
        />
      )}
      <button type="submit" className="button" disabled={typed === '' || !parsed.ok}>
        {text.sift.addThis}
      </button>
      <button type="button" className="link" onClick={onCancel}>
        {text.sift.cancel}
      </button>
      {value !== '' && !parsed.ok && (
        <span role="alert" className="text-go">
          {text.sift.expected(parsed.error.expected)}
        </span>
      )}
    </form>
  );
}
