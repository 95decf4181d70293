// The server of Millpond, a small game to be tested: ducks swim about a pond and eat
// crumbs. TCP, one JSON object a line. It decides everything; clients show it.
//
//   node server.mjs --port 7500 [--seed 1] [--faults NAME,...]
//
// The mistakes it can make:
//   stays-behind    nobody is told that a duck has left
//   blind-newcomer  who joins is not told of the crumbs that lie there already
//   lost-quack      every third quack is told to nobody but its own duck
//   dies            it crashes after five seconds
//   never-ready     it never listens

import net from 'node:net'
import { parseArgs } from 'node:util'
import { Trace } from './zwtrace.mjs'

const { values: options } = parseArgs({
  options: { host: { type: 'string', default: '127.0.0.1' }, port: { type: 'string', default: '7500' }, seed: { type: 'string', default: '1' }, faults: { type: 'string', default: '' } },
})
const faults = new Set(options.faults.split(','))

const version = 2
const tickRate = 20
const halfWidth = 20
const halfHeight = 15
const speed = 4 // metres a second
const turnRate = 220 // degrees a second
const reach = 1.6 // metres within which a crumb is eaten
const crumbsAtOnce = 12

const trace = new Trace(line => process.stdout.write(line))
const began = performance.now()
const now = () => (performance.now() - began) / 1000
const log = text => console.error(text)

// A small random generator, so that the same seed strews the same crumbs.
let state = Number(options.seed) >>> 0
function random() {
  state = (state + 0x6d2b79f5) >>> 0
  let t = state
  t = Math.imul(t ^ (t >>> 15), t | 1)
  t ^= t + Math.imul(t ^ (t >>> 7), t | 61)
  return ((t ^ (t >>> 14)) >>> 0) / 4294967296
}
const between = (low, high) => low + (high - low) * random()

const players = new Map() // name -> player
const crumbs = new Map() // number -> {x, y}
let tick = 0
let crumbNumber = 0
let quackNumber = 0
let nextCrumb = 0

function strew() {
  const id = ++crumbNumber
  crumbs.set(id, { x: between(-halfWidth, halfWidth), y: between(-halfHeight, halfHeight) })
  tellAll({ type: 'crumb', id, ...crumbs.get(id) })
}

function tell(player, message) {
  player.socket.write(JSON.stringify(message) + '\n')
}

function tellAll(message) {
  for (const player of players.values()) tell(player, message)
}

function join(socket, message) {
  if (message.version !== version) {
    // Nobody thought of telling the client.
    log(`ignoring a client of version ${message.version}: this server speaks version ${version}`)
    return null
  }
  const name = String(message.name)
  if (players.has(name)) remove(players.get(name))
  const player = { name, socket, x: -15 + 3 * (players.size % 8), y: between(-5, 5), heading: 0, move: 0, turn: 0, score: 0 }
  players.set(name, player)
  trace.joined(now(), name, `duck/${name}`)
  log(`joined: ${name}`)
  const known = faults.has('blind-newcomer') ? [] : [...crumbs].map(([id, c]) => ({ id, ...c }))
  tell(player, { type: 'welcome', you: name, tickRate, crumbs: known })
  return player
}

function remove(player) {
  if (players.get(player.name) !== player) return
  players.delete(player.name)
  trace.left(now(), player.name)
  log(`left: ${player.name}`)
  if (!faults.has('stays-behind')) tellAll({ type: 'left', name: player.name })
}

function receive(socket, player, message) {
  switch (message.type) {
    case 'hello':
      return player ?? join(socket, message)
    case 'ping':
      if (player) tell(player, { type: 'pong', sent: message.sent, t: now() })
      break
    case 'keys':
      if (player) {
        player.move = Math.max(0, Math.min(1, Number(message.move) || 0))
        player.turn = Math.max(-1, Math.min(1, Number(message.turn) || 0))
      }
      break
    case 'quack':
      if (player) quack(player)
      break
    case 'bye':
      if (player) remove(player)
      break
  }
  return player
}

function quack(player) {
  const id = ++quackNumber
  trace.event(now(), 'quack', { id, entity: `duck/${player.name}`, by: player.name })
  const message = { type: 'quack', id, by: player.name }
  if (faults.has('lost-quack') && id % 3 === 0) tell(player, message)
  else tellAll(message)
}

function step() {
  tick++
  const dt = 1 / tickRate
  for (const p of players.values()) {
    p.heading = (p.heading + p.turn * turnRate * dt + 360) % 360
    const angle = (p.heading * Math.PI) / 180
    p.x = Math.max(-halfWidth, Math.min(halfWidth, p.x + Math.cos(angle) * p.move * speed * dt))
    p.y = Math.max(-halfHeight, Math.min(halfHeight, p.y + Math.sin(angle) * p.move * speed * dt))
    for (const [id, c] of crumbs) {
      if (Math.hypot(c.x - p.x, c.y - p.y) > reach) continue
      crumbs.delete(id)
      p.score++
      trace.event(now(), 'eaten', { id, entity: `crumb/${id}`, by: p.name })
      tellAll({ type: 'eaten', id, by: p.name })
    }
  }
  if (crumbs.size < crumbsAtOnce && tick >= nextCrumb) {
    nextCrumb = tick + tickRate / 2
    strew()
  }
  tellAll({ type: 'state', t: now(), tick, ducks: [...players.values()].map(p => [p.name, p.x, p.y, p.heading, p.score]) })
  speak()
  if (faults.has('dies') && tick > 5 * tickRate) throw new Error('the pond has run dry')
}

function speak() {
  trace.begin(now(), tick)
  for (const p of players.values()) {
    trace.set(`duck/${p.name}`, 'x', p.x)
    trace.set(`duck/${p.name}`, 'y', p.y)
    trace.set(`duck/${p.name}`, 'heading', p.heading)
    trace.set(`duck/${p.name}`, 'score', p.score)
  }
  for (const [id, c] of crumbs) {
    trace.set(`crumb/${id}`, 'x', c.x)
    trace.set(`crumb/${id}`, 'y', c.y)
  }
  trace.end()
}

const server = net.createServer(socket => {
  socket.setNoDelay(true)
  let player = null
  let rest = ''
  socket.on('data', data => {
    const lines = (rest + data).split('\n')
    rest = lines.pop()
    for (const line of lines) {
      try {
        player = receive(socket, player, JSON.parse(line))
      } catch (problem) {
        log(`a line that is no message: ${problem.message}`)
      }
    }
  })
  const gone = () => player && remove(player)
  socket.on('end', gone)
  socket.on('close', gone)
  socket.on('error', () => {}) // close follows
})
server.on('error', problem => {
  log(`cannot listen: ${problem.message}`)
  process.exit(1)
})

for (let i = 0; i < crumbsAtOnce; i++) strew()
setInterval(step, 1000 / tickRate)
if (!faults.has('never-ready')) server.listen(Number(options.port), options.host, () => log(`listening on port ${options.port}`))
