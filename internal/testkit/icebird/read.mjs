// Prints the rows of an Iceberg table as JSON, one a line: node read.mjs METADATA.json. Files of a bucket are asked of
// the server that OBJECTS names.
import { readFile } from 'node:fs/promises'
import { register } from 'node:module'
import { fileURLToPath } from 'node:url'

register('./hooks.mjs', import.meta.url)
const { icebergRead } = await import('icebird')

// The library reads by HTTP; the table lies in files, or in a bucket.
const overHTTP = globalThis.fetch
globalThis.fetch = async (url, init = {}) => {
  // It takes s3://bucket/name for Amazon's own server.
  const object = /^(?:s3:\/\/([^/]+)|https:\/\/([^.]+)\.s3\.amazonaws\.com)\/(.*)$/.exec(String(url))
  if (object) {
    const headers = new Headers(init.headers)
    headers.set('authorization', 'AWS4-HMAC-SHA256 Credential=LIBRARIES/')
    return overHTTP(`${process.env.OBJECTS}/${object[1] ?? object[2]}/${object[3]}`, { ...init, headers })
  }
  let content = await readFile(fileURLToPath(String(url)))
  const length = content.length
  const range = /bytes=(\d+)-(\d*)/.exec(new Headers(init.headers).get('range') ?? '')
  if (range) content = content.subarray(Number(range[1]), range[2] ? Number(range[2]) + 1 : length)
  const headers = { 'content-length': String(init.method === 'HEAD' ? length : content.length) }
  return new Response(init.method === 'HEAD' ? null : content, { status: range ? 206 : 200, headers })
}

const metadata = await (await fetch(process.argv[2])).json()
const rows = await icebergRead({ tableUrl: metadata.location, metadata })
for (const row of rows) {
  console.log(JSON.stringify(row, (_, v) => (typeof v === 'bigint' ? String(v) : v)))
}
