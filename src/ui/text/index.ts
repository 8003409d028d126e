import { type Catalogue, en } from './en';

/** The texts of the language in use. */
export const text: Catalogue = en;

/** The locale of numbers and dates. */
export const LOCALE = 'en-GB';
