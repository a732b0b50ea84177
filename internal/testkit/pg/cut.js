// Asks one question again and again, as long as its input has lines, and prints the first row of each answer.
const { Client } = require('pg')
const readline = require('readline')

async function main() {
  const client = new Client({ connectionString: process.argv[2] })
  await client.connect()
  for await (const _ of readline.createInterface({ input: process.stdin })) {
    const { rows } = await client.query({ text: process.argv[3], rowMode: 'array' })
    console.log(rows[0].map((v) => v ?? 0).join('|'))
  }
  await client.end()
}

main().catch((e) => {
  console.error(e)
  process.exit(1)
})
