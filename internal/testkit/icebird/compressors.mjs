import { inflateRawSync } from 'node:zlib'
export { compressors } from 'hyparquet-compressors'
export const gunzip = (data) => new Uint8Array(inflateRawSync(data))
