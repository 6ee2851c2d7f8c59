-- larktally.lua: makes a game in Lua (5.1 to 5.4, LuaJIT) a subject that larktally records, replays and judges. One file; LuaSocket
-- only where it speaks over a port. Under the licence of Lark Tally. How it is used: docs/programs.md, and game.lua beside this file.
local MOST_FRAMES = 65536
local NULL = {}

-- JSON as far as the protocol needs it. Lists are tables with n.
local json = {}

local function quoted(text)
  local function escaped(one)
    if one == '"' or one == "\\" then return "\\" .. one end
    return string.format("\\u%04x", one:byte())
  end
  return '"' .. text:gsub('[%c"\\]', escaped) .. '"'
end

-- The shortest text that reads back to the same bits; JSON has no number for nan and inf.
local function number_text(value)
  if value ~= value then return '"nan"' end
  if value == math.huge then return '"inf"' end
  if value == -math.huge then return '"-inf"' end
  if value == 0 then return 1 / value < 0 and "-0.0" or "0" end
  if value == math.floor(value) and math.abs(value) < 1e15 then return string.format("%d", value) end
  for digits = 15, 17 do
    -- A host may have set a locale whose decimal point is a comma.
    local text = string.format("%." .. digits .. "g", value)
    if tonumber(text) == value or digits == 17 then return (text:gsub(",", ".")) end
  end
end

local function plain(value)
  if type(value) == "number" then return number_text(value) end
  if type(value) == "boolean" then return tostring(value) end
  return quoted(tostring(value))
end

local function listed(items, write)
  local told = {}
  for n, item in ipairs(items) do told[n] = write(item) end
  return "[" .. table.concat(told, ",") .. "]"
end

-- Every reader returns the value and the place after it, or raises: no deeper than 64, so that no line brings it down.
local read_value

local function blank(text, at) return text:find("[^ \t\r\n]", at) or #text + 1 end

local function fail() error({ code = -32700, message = "not JSON" }, 0) end

local ESCAPES = { b = "\b", f = "\f", n = "\n", r = "\r", t = "\t" }

local function utf8_text(code)
  if code < 0x80 then return string.char(code) end
  if code < 0x800 then return string.char(0xc0 + math.floor(code / 64), 0x80 + code % 64) end
  return string.char(0xe0 + math.floor(code / 4096), 0x80 + math.floor(code / 64) % 64, 0x80 + code % 64)
end

local function read_text(text, at)
  local found = {}
  while true do
    local stop = text:find('["\\]', at) or fail()
    found[#found + 1] = text:sub(at, stop - 1)
    if text:sub(stop, stop) == '"' then return table.concat(found), stop + 1 end
    local one = text:sub(stop + 1, stop + 1)
    at = stop + 2
    if one == "u" then
      local code = text:match("^%x%x%x%x", at) or fail()
      found[#found + 1] = utf8_text(tonumber(code, 16))
      at = at + 4
    else
      found[#found + 1] = ESCAPES[one] or one
    end
  end
end

local function read_members(text, at, depth)
  local found = {}
  at = blank(text, at)
  if text:sub(at, at) == "}" then return found, at + 1 end
  while true do
    local key, value
    if text:sub(at, at) ~= '"' then fail() end
    key, at = read_text(text, at + 1)
    at = blank(text, at)
    if text:sub(at, at) ~= ":" then fail() end
    value, at = read_value(text, blank(text, at + 1), depth + 1)
    found[key] = value
    at = blank(text, at)
    local after = text:sub(at, at)
    if after == "}" then return found, at + 1 end
    if after ~= "," then fail() end
    at = blank(text, at + 1)
  end
end

local function read_items(text, at, depth)
  local found = { n = 0 }
  at = blank(text, at)
  if text:sub(at, at) == "]" then return found, at + 1 end
  while true do
    found.n = found.n + 1
    found[found.n], at = read_value(text, at, depth + 1)
    at = blank(text, at)
    local after = text:sub(at, at)
    if after == "]" then return found, at + 1 end
    if after ~= "," then fail() end
    at = blank(text, at + 1)
  end
end

function read_value(text, at, depth)
  if depth > 64 then fail() end
  local first = text:sub(at, at)
  if first == "{" then return read_members(text, at + 1, depth) end
  if first == "[" then return read_items(text, at + 1, depth) end
  if first == '"' then return read_text(text, at + 1) end
  local word = text:match("^[%w%.%+%-]+", at) or fail()
  local named = { ["true"] = true, ["false"] = false, null = NULL }
  if named[word] ~= nil then return named[word], at + #word end
  return tonumber(word) or fail(), at + #word
end

function json.read(text)
  local found, at = read_value(text, blank(text, 1), 0)
  if blank(text, at) <= #text then fail() end
  return found
end

local function refusal(code, message) error({ code = code, message = message }, 0) end

-- Whether a value is of a channel's kind.
local FITS = {
  number = function(value) return type(value) == "number" end,
  count = function(value) return type(value) == "number" and value == math.floor(value) end,
  flag = function(value) return type(value) == "boolean" end,
  label = function(value, channel) return channel.known[value] ~= nil end,
}

-- A game as a subject. Bind what is to be recorded, say what it takes, and hand over each frame: with serve(step), which calls the
-- game, or with tick(), which a host calls that owns its loop.
local Subject = {}
Subject.__index = Subject

function Subject.new(name, version)
  return setmetatable({
    name = name, version = version, frame = 0, channels = {}, kept = {}, params = {}, actions = {}, known = {}, events = {},
    accepted = {}, now = {}, before = {}, emitted = {}, notes = {}, left = 0, asked = 0, id = "null",
  }, Subject)
end

-- A channel is a field of what a function returns, number("wick.x", own, "x"), and saved with it, or what the function returns.
local function bound(subject, channel, owner, key)
  channel.get = key and function() return owner()[key] end or owner
  subject.channels[#subject.channels + 1] = channel
  if key then subject:keep(owner, key) end
  return subject
end

function Subject:number(name, owner, key) return bound(self, { name = name, kind = "number" }, owner, key) end
function Subject:count(name, owner, key) return bound(self, { name = name, kind = "count" }, owner, key) end
function Subject:flag(name, owner, key) return bound(self, { name = name, kind = "flag" }, owner, key) end
-- A number that is an angle: what a whole turn is.
function Subject:angle(name, wraps, owner, key) return bound(self, { name = name, kind = "number", wraps = wraps }, owner, key) end
-- One of the labels, as text.
function Subject:label(name, labels, owner, key)
  local known = {}
  for place, label in ipairs(labels) do known[label] = place - 1 end
  return bound(self, { name = name, kind = "label", labels = labels, known = known }, owner, key)
end
-- State that is no channel, for saved_as_bound().
function Subject:keep(owner, key)
  self.kept[#self.kept + 1] = { owner = owner, key = key }
  return self
end

local function announced(subject, name, analog)
  subject.actions[#subject.actions + 1] = { name = name, analog = analog }
  subject.known[name] = true
  return subject
end

function Subject:action(name) return announced(self, name, false) end
function Subject:analog(name) return announced(self, name, true) end
function Subject:event(name)
  self.events[#self.events + 1] = name
  return self
end
-- The rates that it accepts, as text: "60", "60000/1001". None said accepts any.
function Subject:rates(...)
  self.accepted = { ... }
  return self
end
-- A field that a run may set; its default is what stands there now. It is set before and after a reset, so that it lasts.
function Subject:param(name, owner, key, least, most)
  self.params[#self.params + 1] = { name = name, owner = owner, key = key, default = owner()[key], least = least, most = most }
  return self
end
-- Back to the beginning, whatever was before: does({ rate, exact_rate, seed }).
function Subject:on_reset(does)
  self.does_reset = does
  return self
end
-- What was bound and kept is all of the state: it is saved and put back.
function Subject:saved_as_bound()
  self.saves = true
  return self
end
-- The game's own functions save its state as text, and put it back.
function Subject:on_save(save, load)
  self.saves, self.does_save, self.does_load = true, save, load
  return self
end

local function value_of(subject, action, values)
  if not subject.known[action] then error("no action '" .. action .. "' was announced", 3) end
  return values[action] or 0
end

-- In a frame: by how much an action is held, whether it is, and whether it is since this frame.
function Subject:value(action) return value_of(self, action, self.now) end
function Subject:held(action) return math.abs(value_of(self, action, self.now)) >= 0.5 end
function Subject:pressed(action) return self:held(action) and math.abs(value_of(self, action, self.before)) < 0.5 end

function Subject:emit(name, source, data)
  -- Nobody asks for the events of a game that is only played.
  if not self.write then return end
  local told, keys = {}, {}
  for key in pairs(data or {}) do keys[#keys + 1] = key end
  table.sort(keys)
  for n, key in ipairs(keys) do told[n] = quoted(key) .. ":" .. plain(data[key]) end
  local event = string.format("[%d,%s,%s,{%s}]", self.frame, quoted(name), quoted(source or ""), table.concat(told, ","))
  self.emitted[#self.emitted + 1] = event
end

-- Why a channel is what it is in this frame; it stands under a claim that is broken there.
function Subject:note(channel, text)
  if self.write then self.notes[#self.notes + 1] = string.format("[%d,%s,%s]", self.frame, quoted(channel), quoted(text)) end
end

-- What went wrong in this frame; the run ends with it.
function Subject:fail(message) self.failed = tostring(message) end

-- Speaks over standard input and output, or over the port in LARKTALLY_PORT, and calls step for each frame, until it is asked to
-- end. What the game prints with print meanwhile goes to standard error.
function Subject:serve(step)
  if not self:connect() then
    local out = io.output()
    self.read = function() return io.read("*l") end
    self.write = function(text) out:write(text):flush() end
    io.output(io.stderr)
    print = function(...) -- luacheck: ignore
      for n = 1, select("#", ...) do io.stderr:write(n > 1 and "\t" or "", tostring((select(n, ...)))) end
      io.stderr:write("\n")
    end
  end
  while self:tick() do
    local well, problem = pcall(step)
    if not well then self:fail(problem) end
  end
end

-- Connects to the port in LARKTALLY_PORT; false where there is none, and the game is played as always. It needs LuaSocket.
function Subject:connect()
  local port = os.getenv("LARKTALLY_PORT")
  if not port or port == "" then return false end
  local connection = assert(require("socket").connect("127.0.0.1", tonumber(port)))
  connection:setoption("tcp-nodelay", true)
  self.read = function() return (connection:receive("*l")) end
  self.write = function(text) connection:send(text) end
  return true
end

-- One call a tick, before the game's own step: it takes the row that the tick before left, and waits until a frame is wanted. False
-- when the run is over.
function Subject:tick()
  if self.left > 0 then
    self:take_row()
    self.left = self.left - 1
    if self.left == 0 then self:answer_step() end
  end
  while self.left == 0 do
    local line = not self.ended and self.read()
    if not line then return false end
    self:take(line)
  end
  local k = self.asked - self.left + 1
  self.before, self.now = self.now, {}
  for _, action in ipairs(self.actions) do
    local values = self.wanted[action.name]
    self.now[action.name] = values and values[k] or 0
  end
  self.frame = self.frame + 1
  return true
end

function Subject:answer(result) self.write(string.format('{"jsonrpc":"2.0","id":%s,"result":%s}\n', self.id, result)) end

function Subject:refuse(code, message, in_frame)
  local at = in_frame and string.format(',"data":{"frame":%d}', self.frame) or ""
  local told = '{"jsonrpc":"2.0","id":%s,"error":{"code":%d,"message":%s%s}}\n'
  self.write(string.format(told, self.id, code, quoted(message), at))
end

local METHODS = {}

function Subject:take(line)
  self.id = "null"
  local well, problem = pcall(function()
    local request = json.read(line)
    if type(request) ~= "table" then refusal(-32600, "a request is an object") end
    if type(request.id) == "number" or type(request.id) == "string" then self.id = plain(request.id) end
    if type(request.method) ~= "string" then refusal(-32600, "no method") end
    local does = METHODS[request.method] or refusal(-32601, "no method " .. request.method)
    local params = request.params
    does(self, type(params) == "table" and params ~= NULL and params or {})
  end)
  if well then return end
  if type(problem) == "table" then self:refuse(problem.code, problem.message) else self:refuse(-32000, tostring(problem)) end
end

local function channel_told(channel)
  local told = '{"name":' .. quoted(channel.name) .. ',"kind":"' .. channel.kind .. '"'
  if channel.labels then told = told .. ',"labels":' .. listed(channel.labels, quoted) end
  if channel.wraps then told = told .. ',"wraps":' .. number_text(channel.wraps) end
  return told .. "}"
end

local function param_told(param)
  local told = '{"name":' .. quoted(param.name) .. ',"default":' .. plain(param.default)
  if param.least then told = told .. ',"least":' .. number_text(param.least) end
  if param.most then told = told .. ',"most":' .. number_text(param.most) end
  return told .. "}"
end

function METHODS.hello(subject)
  local function action_told(action) return '{"name":' .. quoted(action.name) .. ',"analog":' .. tostring(action.analog) .. "}" end
  local parts = {
    '"protocol":1', '"name":' .. quoted(subject.name), '"version":' .. quoted(subject.version),
    '"channels":' .. listed(subject.channels, channel_told), '"actions":' .. listed(subject.actions, action_told),
    '"events":' .. listed(subject.events, quoted), '"rates":' .. listed(subject.accepted, quoted),
    '"params":' .. listed(subject.params, param_told), '"saves":' .. tostring(subject.saves == true),
    '"token":' .. quoted(os.getenv("LARKTALLY_TOKEN") or ""),
  }
  subject:answer("{" .. table.concat(parts, ",") .. "}")
end

-- A channel's value as JSON; raises where it is of another kind.
local function value_told(channel)
  local value = channel.get()
  if not FITS[channel.kind](value, channel) then
    error("channel " .. channel.name .. " is a " .. channel.kind .. " and was " .. tostring(value), 0)
  end
  return plain(value)
end

function Subject:row()
  local told = {}
  for n, channel in ipairs(self.channels) do told[n] = quoted(channel.name) .. ":" .. value_told(channel) end
  return "{" .. table.concat(told, ",") .. "}"
end

function Subject:set_params(given)
  for _, param in ipairs(self.params) do
    local value = given[param.name]
    if value == nil then value = param.default end
    param.owner()[param.key] = value
  end
end

function Subject:happened()
  local told = '"events":[' .. table.concat(self.emitted, ",") .. "]"
  if #self.notes > 0 then told = told .. ',"notes":[' .. table.concat(self.notes, ",") .. "]" end
  self.emitted, self.notes = {}, {}
  return told
end

function METHODS.reset(subject, given)
  local text = type(given.rate) == "string" and given.rate or "60"
  local over, under = text:match("^([^/]+)/?(.*)$")
  over, under = tonumber(over), under == "" and 1 or tonumber(under)
  if not (over and under and over > 0 and under > 0) then refusal(-32602, "reset takes a rate") end
  subject.frame, subject.running, subject.failed = 0, true, nil
  subject.now, subject.before, subject.emitted, subject.notes = {}, {}, {}, {}
  local params = type(given.params) == "table" and given.params or {}
  subject:set_params(params)
  if subject.does_reset then
    subject.does_reset({ rate = over / under, exact_rate = text, seed = type(given.seed) == "number" and given.seed or 0 })
  end
  subject:set_params(params)
  local row = subject:row()
  subject:answer('{"row":' .. row .. "," .. subject:happened() .. "}")
end

function METHODS.step(subject, given)
  local frames, inputs = given.frames, given.inputs
  if not subject.running then refusal(-32600, "reset comes before step") end
  if type(frames) ~= "number" or frames ~= math.floor(frames) or frames < 0 or frames > MOST_FRAMES then
    refusal(-32602, "frames is a whole number from 0 to " .. MOST_FRAMES)
  end
  if type(inputs) ~= "table" then refusal(-32602, "inputs is an object of lists") end
  for name, values in pairs(inputs) do
    if not subject.known[name] then refusal(-32602, "no action " .. tostring(name)) end
    if type(values) ~= "table" or values.n ~= frames then refusal(-32602, "an input has a value for each frame") end
  end
  subject.wanted, subject.asked, subject.left, subject.columns = inputs, frames, frames, {}
  for n in ipairs(subject.channels) do subject.columns[n] = {} end
  if frames == 0 then subject:answer_step() end
end

function Subject:take_row()
  local well, problem = pcall(function()
    if self.failed then error(self.failed, 0) end
    for n, channel in ipairs(self.channels) do
      local column = self.columns[n]
      column[#column + 1] = value_told(channel)
    end
  end)
  if well then return end
  self:refuse(-32000, tostring(problem), true)
  self.left, self.asked, self.running = 1, -1, false
end

function Subject:answer_step()
  -- What failed is answered already.
  if self.asked < 0 then return end
  local told = {}
  for n, channel in ipairs(self.channels) do
    told[n] = quoted(channel.name) .. ":[" .. table.concat(self.columns[n], ",") .. "]"
  end
  self:answer('{"columns":{' .. table.concat(told, ",") .. "}," .. self:happened() .. "}")
end

local function text_of(value)
  if type(value) == "number" then return "n" .. number_text(value):gsub('"', "") end
  if type(value) == "boolean" then return value and "t" or "f" end
  return "s" .. tostring(value):gsub("[^%w_%-]", function(one) return string.format("%%%02x", one:byte()) end)
end

local SPECIAL = { nan = 0 / 0, inf = math.huge, ["-inf"] = -math.huge }

local function value_from(text)
  local kind, rest = text:sub(1, 1), text:sub(2)
  if kind == "n" then return SPECIAL[rest] or tonumber(rest) end
  if kind == "s" then return (rest:gsub("%%(%x%x)", function(code) return string.char(tonumber(code, 16)) end)) end
  return kind == "t"
end

-- A state is the frame, what was held, and either all that was bound or what the game itself says.
function METHODS.save(subject)
  if not subject.saves then refusal(-32600, "this game does not save") end
  local words = { tostring(subject.frame) }
  for _, action in ipairs(subject.actions) do words[#words + 1] = text_of(subject.now[action.name] or 0) end
  if subject.does_save then
    words[#words + 1] = text_of(subject.does_save())
  else
    for _, one in ipairs(subject.kept) do words[#words + 1] = text_of(one.owner()[one.key]) end
  end
  subject:answer('{"state":' .. quoted(table.concat(words, " ")) .. "}")
end

function METHODS.load(subject, given)
  local words = {}
  for word in tostring(given.state):gmatch("%S+") do words[#words + 1] = word end
  local own = subject.does_save and 1 or #subject.kept
  if not subject.saves or #words ~= 1 + #subject.actions + own or not tonumber(words[1]) then
    refusal(-32602, "load takes a state that save gave")
  end
  for n, action in ipairs(subject.actions) do subject.now[action.name] = value_from(words[1 + n]) end
  local first = 1 + #subject.actions
  if subject.does_load then
    subject.does_load(value_from(words[first + 1]))
  else
    for n, one in ipairs(subject.kept) do one.owner()[one.key] = value_from(words[first + n]) end
  end
  subject.frame, subject.running, subject.failed = math.floor(tonumber(words[1])), true, nil
  subject:answer(string.format('{"frame":%d,"row":%s}', subject.frame, subject:row()))
end

METHODS["end"] = function(subject)
  subject:answer("{}")
  subject.ended = true
end

return Subject
