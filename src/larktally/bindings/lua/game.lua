-- Lantern: Wick on a quay, as a small game in Lua. The game knows nothing of larktally; the lines at the end bind it.
package.path = (arg[0]:match("^(.*[/\\])") or "") .. "?.lua;" .. package.path
local Subject = require("larktally")

local tuning = { speed = 120 }
local wick
local rate = 60

local function begin()
  wick = { x = 24, y = 16, vx = 0, vy = 0, grounded = true, gait = "standing", oil = 7, rest = 0 }
end

local subject = Subject.new("lantern", "1.0")

-- One frame: the timer, then the rules, then motion (semi-implicit Euler).
local function step()
  if wick.rest > 0 then wick.rest = wick.rest - 1 end
  if wick.gait == "airborne" and wick.grounded then
    wick.gait = "standing"
  elseif wick.gait == "standing" and subject:pressed("hop") then
    wick.vy = 360
    wick.gait = "airborne"
    wick.grounded = false
    subject:emit("hop", "wick", { speed = wick.vy })
  end
  if subject:pressed("spark") and wick.rest == 0 and wick.oil > 0 then
    wick.oil = wick.oil - 1
    wick.rest = 12
    subject:emit("spark", "can", { left = wick.oil })
    subject:note("can.oil", "a spark was thrown")
  end
  wick.vx = tuning.speed * subject:value("walk")
  wick.vy = wick.vy - 900 / rate
  wick.x = wick.x + wick.vx / rate
  wick.y = wick.y + wick.vy / rate
  if wick.y <= 16 then
    if not wick.grounded then subject:emit("landed", "wick") end
    wick.y = 16
    wick.vy = 0
    wick.grounded = true
  end
end

begin()
local function own() return wick end
subject:number("wick.x", own, "x"):number("wick.y", own, "y"):number("wick.vx", own, "vx"):number("wick.vy", own, "vy")
subject:flag("wick.grounded", own, "grounded"):label("wick.gait", { "standing", "airborne" }, own, "gait")
subject:count("can.oil", own, "oil"):count("can.rest", own, "rest"):flag("can.empty", function() return wick.oil == 0 end)
subject:analog("walk"):action("hop"):action("spark")
subject:event("hop"):event("landed"):event("spark")
subject:param("speed", function() return tuning end, "speed", 10, 400):saved_as_bound()
subject:on_reset(function(start)
  begin()
  rate = start.rate
end)

-- A host that owns its loop asks once a tick; where there is no port to connect to, serve() owns the loop.
if subject:connect() then
  while subject:tick() do step() end
else
  subject:serve(step)
end
