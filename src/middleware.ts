import { defineMiddleware } from 'astro:middleware';
import { admit, SECURITY_HEADERS } from './api/admit';

export const onRequest = defineMiddleware(async ({ request }, next) => {
  const refused = admit(request);
  const response = refused ?? (await next());
  for (const [name, value] of Object.entries(SECURITY_HEADERS)) response.headers.set(name, value);
  return response;
});
