import { Random, seedOf } from '../message/random';
import { FIRST_NAMES, LAST_NAMES } from './words';

export interface Person {
  name: string;
  address: string;
}

export const SECRETARY: Person = {
  name: 'Secretary, Saltmarsh Lane Allotments',
  address: 'secretary@saltmarshlane.example',
};

export const WEATHER: Person = { name: 'Saltmarsh weather station', address: 'station@wx.saltmarshlane.example' };
export const METERS: Person = { name: 'Water meter readings', address: 'readings@meters.example' };
export const FENWATER: Person = { name: 'Fenwater Seeds', address: 'offers@fenwater.example' };
export const SUPPLY_POST: Person = { name: 'Allotment Supply Post', address: 'post@supplypost.example' };
export const PARISH: Person = { name: 'Parish Council', address: 'circulars@parish.example' };
export const FORMS: Person = { name: 'Plot waiting list form', address: 'no-reply@forms.example' };
export const BEES_LIST = { id: 'talk.bees.example', address: 'talk@bees.example', name: 'Bee talk' };

const HOSTS = [
  'post.example',
  'brackenmail.example',
  'letterbox.example',
  'marshnet.example',
  'farmgate.example',
  'tidewatch.example',
  'ferryline.example',
  'lanepost.example',
];

const SHOP_WORDS = [
  'Glasshouse',
  'Tool Hire',
  'Pellet',
  'Cloche',
  'Bulb',
  'Trellis',
  'Orchard',
  'Hedge',
  'Potting Shed',
  'Compost',
  'Barrow',
  'Twine',
  'Netting',
  'Seedling',
  'Rootstock',
  'Polytunnel',
  'Mulch',
  'Sundial',
  'Weathervane',
  'Birdbox',
];
const SHOP_ENDS = [
  'Weekly',
  'Direct',
  'Traders',
  'House',
  'Supplies',
  'and Sons',
  'Corner',
  'Works',
  'Market',
  'Depot',
];

const plain = (text: string) => text.toLowerCase().replace(/[^a-z0-9]+/g, '');

/** People with names and addresses of their own, the same for the same seed. */
export function people(count: number, seed: number, host?: string): Person[] {
  const random = new Random(seed);
  return Array.from({ length: count }, (_, index) => {
    const first = FIRST_NAMES[index % FIRST_NAMES.length] as string;
    const last = LAST_NAMES[Math.floor(index / FIRST_NAMES.length + index * 7) % LAST_NAMES.length] as string;
    const suffix = index >= FIRST_NAMES.length * LAST_NAMES.length ? `${index}` : '';
    return {
      name: `${first} ${last}`,
      address: `${plain(first)}.${plain(last)}${suffix || index}@${host ?? random.pick(HOSTS)}`,
    };
  });
}

/** Businesses that write to many. */
export function shops(count: number, seed: number, localPart: string): Person[] {
  return Array.from({ length: count }, (_, index) => {
    const at = seedOf(seed, index);
    const word = SHOP_WORDS[index % SHOP_WORDS.length] as string;
    const end = SHOP_ENDS[(Math.floor(index / SHOP_WORDS.length) * 3 + (at % 3)) % SHOP_ENDS.length] as string;
    const number = index >= 40 ? ` ${index}` : '';
    return { name: `${word} ${end}${number}`, address: `${localPart}@${plain(`${word}${end}${number}`)}.example` };
  });
}

export const COMMITTEE: Person[] = [
  { name: 'Odile Marchbanks', address: 'odile@marchbanks.example' },
  { name: 'Hetty Quorn', address: 'hetty@quorn.example' },
  { name: 'Tobin Ashgrove', address: 'tobin@ashgrove.example' },
  { name: 'Rowan Pettifer', address: 'rowan.pettifer@post.example' },
  { name: 'Jördis Ångelholm-Weald', address: 'jordis@angelholmweald.example' },
  { name: 'Maud Sedgewick', address: 'maud@letterbox.example' },
  { name: 'Piers Cattermole', address: 'piers.cattermole@marshnet.example' },
  { name: 'Zoë Brackenbury', address: 'zoe@brackenbury.example' },
  { name: 'Anselm Wrenfield', address: 'anselm@farmgate.example' },
  { name: 'Søren Marsh', address: 'soren@tidewatch.example' },
];
