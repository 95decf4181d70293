// Lets a game that draws by Math.random draw the same in every match of one seed, and otherwise with
// another: node -r ./zwseed.cjs server.mjs. Each program draws its own numbers. Where no match is
// played, nothing is changed.
const { ZWHEEL_SEED: seed, ZWHEEL_NAME: name = '' } = process.env
if (seed) {
  let state = 2166136261 // FNV-1a of both
  for (const c of `${seed}/${name}`) state = Math.imul(state ^ c.codePointAt(0), 16777619) >>> 0
  Math.random = () => { // mulberry32
    state = (state + 0x6d2b79f5) >>> 0
    let n = Math.imul(state ^ (state >>> 15), 1 | state)
    n = (n + Math.imul(n ^ (n >>> 7), 61 | n)) ^ n
    return ((n ^ (n >>> 14)) >>> 0) / 2 ** 32
  }
}
