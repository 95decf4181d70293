-- Writes trace lines for zwheel: one file without dependencies, to be copied into
-- a game (Lua 5.1 and later). Say everything that a view believes each time; the
-- lines have only what has changed, and a full snapshot about once a second.
--
--   local trace = require("zwtrace").new(function(line) io.write(line) end)
--   trace:joined(t, "fern", "dog/fern")
--   trace:begin(t, tick)              -- tick -1: the game has none
--   trace:set("dog/fern", "x", 1.5)   -- numbers, flags and text; an entity's in a row
--   trace:predicted()                 -- optional: what follows is what the client predicts,
--   trace:set("dog/fern", "x", 1.7)   -- or after received() what last came for it
--   trace:finish()                    -- what was not named is despawned
--
-- Times are seconds on any clock that does not run backwards.

local Trace = {}
Trace.__index = Trace

local function quote(text)
  return '"' .. text:gsub('[%c"\\]', function(c)
    if c == '"' or c == "\\" then return "\\" .. c end
    if c == "\n" then return "\\n" end
    if c:byte() == 127 then return c end
    return string.format("\\u%04x", c:byte())
  end) .. '"'
end

local function written(value)
  if type(value) == "number" then
    if value ~= value then return '"NaN"' end
    if value == math.huge then return '"Infinity"' end
    if value == -math.huge then return '"-Infinity"' end
    return string.format("%.3f", value)
  end
  if type(value) == "boolean" then return tostring(value) end
  return quote(tostring(value))
end

local function key(name, value)
  if value == nil or value == "" then return "" end
  return ',"' .. name .. '":' .. quote(tostring(value))
end

local function data(json)
  if json == nil or json == "" then return "" end
  return ',"data":' .. json
end

-- new returns a trace; write is called with every line.
function Trace.new(write)
  return setmetatable({ write = write, tick = -1, now = {}, said = {}, beside = {}, told = {}, before = {}, names = {}, full = -math.huge }, Trace)
end

-- begin begins a snapshot of the world at a time.
function Trace:begin(t, tick)
  self.t, self.tick, self.now = t, tick or -1, {}
  self.said, self.beside = self.now, {}
end

-- at says of which tick the events, joins and leaves are that follow, up to the next
-- snapshot, which says its own; -1: of none.
function Trace:at(tick)
  self.tick = tick
end

-- received: what is set from here to the end of the snapshot is what last came for it.
function Trace:received()
  self.said = {}
  self.beside.received = self.said
end

-- predicted: what is set from here to the end of the snapshot is what the client predicts.
function Trace:predicted()
  self.said = {}
  self.beside.predicted = self.said
end

-- set says a field: a number, true or false, or text.
function Trace:set(entity, field, value)
  local last = self.said[#self.said]
  if not last or last.entity ~= entity then
    last = { entity = entity }
    self.said[#self.said + 1] = last
  end
  last[#last + 1] = { field, written(value) }
end

-- finish writes the snapshot: what has changed in it, and its tick if it has one.
function Trace:finish()
  local full = self.t >= self.full
  local state, there = {}, {}
  for _, said in ipairs(self.now) do
    there[said.entity] = true
    local known = self.before[said.entity]
    if not known then
      known = {}
      self.before[said.entity] = known
      self.names[#self.names + 1] = said.entity
    end
    local fields = {}
    for _, f in ipairs(said) do
      if full or known[f[1]] ~= f[2] then fields[#fields + 1] = quote(f[1]) .. ":" .. f[2] end
      known[f[1]] = f[2]
    end
    if #fields > 0 then state[#state + 1] = quote(said.entity) .. ":{" .. table.concat(fields, ",") .. "}" end
  end
  local kept, despawned = {}, {}
  for _, name in ipairs(self.names) do
    if there[name] then
      kept[#kept + 1] = name
    else
      despawned[#despawned + 1] = quote(name)
      self.before[name] = nil
    end
  end
  self.names = kept
  local beside = ""
  for _, part in ipairs({ "received", "predicted" }) do
    local things = {}
    for _, said in ipairs(self.beside[part] or {}) do
      local fields = {}
      for _, f in ipairs(said) do fields[#fields + 1] = quote(f[1]) .. ":" .. f[2] end
      things[#things + 1] = quote(said.entity) .. ":{" .. table.concat(fields, ",") .. "}"
    end
    local text = table.concat(things, ",")
    if text ~= "" and (full or text ~= self.told[part]) then beside = beside .. ',"' .. part .. '":{' .. text .. "}" end
    self.told[part] = text
  end
  if self.tick < 0 and not full and #state == 0 and beside == "" and #despawned == 0 then return end
  local line = self:ticked()
  if full then
    self.full = self.t + 1
    line = line .. ',"full":true'
  end
  if full or #state > 0 then line = line .. ',"state":{' .. table.concat(state, ",") .. "}" end
  line = line .. beside
  if not full and #despawned > 0 then line = line .. ',"despawned":[' .. table.concat(despawned, ",") .. "]" end
  self:line(self.t, line)
end

-- event says a one-off; more has id, entity, by, to and data, as JSON text, where they
-- are known.
function Trace:event(t, name, more)
  more = more or {}
  self:line(t, self:ticked() .. key("event", name) .. key("id", more.id) .. key("entity", more.entity) .. key("by", more.by) .. key("to", more.to) .. data(more.data))
end

-- input says what the player does from now on.
function Trace:input(t, what, seq)
  self:line(t, key("input", what) .. string.format(',"seq":%d', seq))
end

-- checkpoint says that the code has passed a checkpoint; more has id, entity, by and data.
function Trace:checkpoint(t, name, more)
  more = more or {}
  self:line(t, key("checkpoint", name) .. key("id", more.id) .. key("entity", more.entity) .. key("by", more.by) .. data(more.data))
end

-- sent says that a packet was handed to the network: its number, or a hash of it; more has to (to whom, where a
-- server says it), data (what is in it, as JSON) and size (in bytes).
function Trace:sent(t, packet, more)
  more = more or {}
  local size = more.size and string.format(',"bytes":%d', more.size) or ""
  self:line(t, key("sent", packet) .. key("to", more.to) .. data(more.data) .. size)
end

-- got says that a packet was taken in, and from whom, where a server says it.
function Trace:got(t, packet, by)
  self:line(t, key("got", packet) .. key("by", by))
end

-- clock says a clock exchange: the round trip, and what the server's clock showed
-- when it answered, in seconds.
function Trace:clock(t, ping, server_t)
  self:line(t, string.format(',"ping":%.6f,"server_t":%.6f', ping, server_t))
end

-- joined says that a player is in, and which entity is theirs.
function Trace:joined(t, name, entity)
  self:line(t, self:ticked() .. key("joined", name) .. key("entity", entity))
end

function Trace:left(t, name)
  self:line(t, self:ticked() .. key("left", name))
end

-- refused says that a player was not let in.
function Trace:refused(t, name)
  self:line(t, self:ticked() .. key("refused", name))
end

function Trace:ticked()
  return self.tick >= 0 and string.format(',"tick":%d', self.tick) or ""
end

function Trace:line(t, rest)
  self.write(string.format('{"t":%.6f', t) .. rest .. "}\n")
end

return Trace
