import type { APIRoute } from 'astro';
import { handleApi } from '../../api/handle';

export const prerender = false;

export const ALL: APIRoute = ({ request, locals }) => handleApi(request, locals.clientAddress, locals.isDirect);
