import { defineMiddleware } from 'astro:middleware';
import { checkOrigin } from './api/origin-check';

export const onRequest = defineMiddleware(async ({ request }, next) => {
  const refused = checkOrigin(request);
  const response = refused ?? (await next());
  if (response.headers.get('content-type') === 'text/html')
    response.headers.set('content-type', 'text/html; charset=utf-8');
  // What a browser is sent to by somebody else's link is kept as a file, and not shown as a page (ASVS 14.4.2).
  const isApi = new URL(request.url).pathname.startsWith('/api/');
  if (isApi && !response.headers.has('content-disposition'))
    response.headers.set('content-disposition', 'attachment; filename="api.json"');
  return response;
});
