// Asks as the driver pg does: a question with parameters, twice by name, and one that is wrong. Prints JSON.
const { Client } = require('pg')

async function main() {
  const client = new Client({ connectionString: process.argv[2] })
  await client.connect()
  const values = [2, 'Low Tide']
  const first = await client.query('SELECT id, title, lent_at, fee, extra, returned FROM kept.loans WHERE id = $1 OR title = $2 ORDER BY id', values)
  const named = { name: 'by-id', text: 'SELECT title FROM kept.loans WHERE id = $1' }
  const titles = []
  for (const id of [1, 2]) titles.push((await client.query({ ...named, values: [id] })).rows[0].title)
  let wrong = {}
  try {
    await client.query('SELECT nothing FROM kept.loans')
  } catch (e) {
    wrong = { code: e.code, message: e.message, position: e.position }
  }
  const after = await client.query('SELECT count(*) AS n FROM kept.loans')
  console.log(JSON.stringify({ rows: first.rows, types: first.fields.map((f) => f.dataTypeID), titles, wrong, after: after.rows }))
  await client.end()
}

main().catch((e) => {
  console.error(e)
  process.exit(1)
})
