// Runs a client that tells its trace on standard output, and has that told where ZWHEEL_TRACE says: over a
// connection, or into a file.
import { spawn } from 'node:child_process'
import { createWriteStream } from 'node:fs'
import { connect } from 'node:net'

const client = spawn(process.execPath, process.argv.slice(2), { stdio: ['pipe', 'pipe', 'inherit'] })
const where = process.env.ZWHEEL_TRACE
const address = /^(.*):(\d+)$/.exec(where)
if (address) {
  const line = connect(Number(address[2]), address[1])
  client.stdout.pipe(line)
  line.pipe(client.stdin)
} else {
  client.stdout.pipe(createWriteStream(where, { flags: 'a' }))
  process.stdin.pipe(client.stdin)
}
client.stdin.on('error', () => {})
client.on('exit', (code) => process.exit(code ?? 0))
process.on('SIGTERM', () => client.kill())
