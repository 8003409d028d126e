import { parseArgs } from 'node:util';
import { fuzzDecoder } from './fuzz';

/** Fuzzes the decoder of FETCH for as many inputs as asked; a failure tells the seed that repeats it. */
const { values } = parseArgs({
  options: { inputs: { type: 'string', default: '1000000' }, seed: { type: 'string', default: '1' } },
});
const started = performance.now();
const { inputs, octets, read } = fuzzDecoder(Number(values.inputs), Number(values.seed));
const memory = Math.round(process.resourceUsage().maxRSS / 1024);
process.stdout.write(
  `${inputs} inputs of seed ${values.seed}, ${octets} octets, ${read} messages read all the same, ` +
    `${Math.round((performance.now() - started) / 1000)} s, ${memory} MB at most\n`,
);
