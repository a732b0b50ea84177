// Has the library decompress manifests by Node's zlib: its own fails on blocks of deflate that are stored as they are.
export async function resolve(specifier, context, next) {
  if (specifier === 'hyparquet-compressors' && context.parentURL?.includes('/node_modules/icebird/'))
    return { url: new URL('./compressors.mjs', import.meta.url).href, shortCircuit: true }
  return next(specifier, context)
}
