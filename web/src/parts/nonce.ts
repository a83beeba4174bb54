import { setNonce } from 'get-nonce';

/** The page's nonce: styles that components add must carry it, or the browser leaves them out. */
export const nonce = document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content ?? '';

setNonce(nonce);
