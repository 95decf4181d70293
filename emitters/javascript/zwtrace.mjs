// Writes trace lines for zwheel: one file without dependencies, to be copied into
// a game. Say everything that a view believes each time; the lines have only what
// has changed, and a full snapshot about once a second.
//
//   const trace = new Trace(line => process.stdout.write(line))
//   trace.joined(t, 'fern', 'dog/fern')
//   trace.begin(t, tick)               // tick -1: the game has none
//   trace.set('dog/fern', 'x', 1.5)    // numbers, flags and text; an entity's in a row
//   trace.predicted()                  // optional: what follows is what the client predicts,
//   trace.set('dog/fern', 'x', 1.7)    // or after received() what last came for it
//   trace.end()                        // what was not named is despawned
//
// Times are seconds on any clock that does not run backwards.

export class Trace {
  #write
  #t = 0
  #tick = -1
  #now = [] // [entity, [[field, value as it is written]]]
  #said = this.#now // what is said now is put there: the state, or what is told beside it
  #beside = {} // part of a line -> like now
  #told = {} // part of a line -> as it was written last
  #before = new Map() // entity -> Map of field -> value
  #full = -Infinity

  constructor(write) {
    this.#write = write
  }

  // Begins a snapshot of the world at a time.
  begin(t, tick = -1) {
    this.#t = t
    this.#tick = tick
    this.#now = this.#said = []
    this.#beside = {}
  }

  // Says of which tick the events, joins and leaves are that follow, up to the next
  // snapshot, which says its own; -1: of none.
  at(tick) {
    this.#tick = tick
  }

  // What is set from here to the end of the snapshot is what last came for it.
  received() {
    this.#said = this.#beside.received = []
  }

  // What is set from here to the end of the snapshot is what the client predicts.
  predicted() {
    this.#said = this.#beside.predicted = []
  }

  // Says a field: a number, true or false, or text.
  set(entity, field, value) {
    let last = this.#said.at(-1)
    if (!last || last[0] !== entity) this.#said.push((last = [entity, []]))
    last[1].push([field, written(value)])
  }

  // Writes the snapshot: what has changed in it, and its tick if it has one.
  end() {
    const full = this.#t >= this.#full
    const state = []
    const there = new Set()
    for (const [entity, said] of this.#now) {
      there.add(entity)
      if (!this.#before.has(entity)) this.#before.set(entity, new Map())
      const known = this.#before.get(entity)
      const fields = []
      for (const [field, value] of said) {
        if (full || known.get(field) !== value) fields.push(`${quote(field)}:${value}`)
        known.set(field, value)
      }
      if (fields.length) state.push(`${quote(entity)}:{${fields.join(',')}}`)
    }
    const despawned = []
    for (const entity of [...this.#before.keys()]) {
      if (there.has(entity)) continue
      despawned.push(quote(entity))
      this.#before.delete(entity)
    }
    let beside = ''
    for (const part of ['received', 'predicted']) {
      const things = (this.#beside[part] ?? []).map(([entity, said]) => `${quote(entity)}:{${said.map(([field, value]) => `${quote(field)}:${value}`).join(',')}}`).join(',')
      if (things && (full || things !== this.#told[part])) beside += `,"${part}":{${things}}`
      this.#told[part] = things
    }
    if (this.#tick < 0 && !full && !state.length && !beside && !despawned.length) return
    let line = this.#ticked()
    if (full) {
      this.#full = this.#t + 1
      line += ',"full":true'
    }
    if (full || state.length) line += `,"state":{${state.join(',')}}`
    line += beside
    if (!full && despawned.length) line += `,"despawned":[${despawned.join(',')}]`
    this.#line(this.#t, line)
  }

  // Says a one-off; id, entity, by, to and data, any value, where they are known.
  event(t, name, { id, entity, by, to, data } = {}) {
    this.#line(t, this.#ticked() + keys({ event: name, id, entity, by, to }) + json(data))
  }

  // Says what the player does from now on.
  input(t, what, seq) {
    this.#line(t, `${keys({ input: what })},"seq":${seq}`)
  }

  // Says that the code has passed a checkpoint.
  checkpoint(t, name, { id, entity, by, data } = {}) {
    this.#line(t, keys({ checkpoint: name, id, entity, by }) + json(data))
  }

  // Says that a packet was handed to the network: its number, or a hash of it; to whom,
  // where a server says it; what is in it, any value; and how many bytes it has.
  sent(t, packet, { to, data, size } = {}) {
    this.#line(t, keys({ sent: packet, to }) + json(data) + (size ? `,"bytes":${size}` : ''))
  }

  // Says that a packet was taken in, and from whom, where a server says it.
  got(t, packet, { by } = {}) {
    this.#line(t, keys({ got: packet, by }))
  }

  // Says a clock exchange: the round trip, and what the server's clock showed when
  // it answered, in seconds.
  clock(t, ping, serverT) {
    this.#line(t, `,"ping":${ping.toFixed(6)},"server_t":${serverT.toFixed(6)}`)
  }

  // Says that a player is in, and which entity is theirs.
  joined(t, name, entity) {
    this.#line(t, this.#ticked() + keys({ joined: name, entity }))
  }

  left(t, name) {
    this.#line(t, this.#ticked() + keys({ left: name }))
  }

  // Says that a player was not let in.
  refused(t, name) {
    this.#line(t, this.#ticked() + keys({ refused: name }))
  }

  #ticked() {
    return this.#tick >= 0 ? `,"tick":${this.#tick}` : ''
  }

  #line(t, rest) {
    this.#write(`{"t":${t.toFixed(6)}${rest}}\n`)
  }
}

function keys(values) {
  let text = ''
  for (const [name, value] of Object.entries(values)) if (value !== undefined && value !== '') text += `,"${name}":${quote(String(value))}`
  return text
}

function json(data) {
  return data === undefined ? '' : `,"data":${JSON.stringify(data)}`
}

function written(value) {
  if (typeof value === 'number') return Number.isFinite(value) ? value.toFixed(3) : `"${value}"`
  return typeof value === 'boolean' ? String(value) : quote(String(value))
}

function quote(text) {
  return JSON.stringify(text)
}
