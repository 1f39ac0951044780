-- The chamber of a lock: gates and paddles open only when that is safe.

local Chamber = {}
Chamber.__index = Chamber

local TOLERANCE = 0.02 -- metres of difference at which a gate may open

function Chamber.new(lower, upper)
  assert(upper > lower, "the upper reach must be above the lower one")
  return setmetatable({
    lower = lower, upper = upper, level = lower,
    gates = { lower = "shut", upper = "shut" },
    paddles = { lower = "shut", upper = "shut" },
    passages = 0,
  }, Chamber)
end

local function other(side)
  return side == "lower" and "upper" or "lower"
end

function Chamber:reach(side)
  return side == "lower" and self.lower or self.upper
end

function Chamber:is_level(side)
  return math.abs(self.level - self:reach(side)) <= TOLERANCE
end

function Chamber:open_gate(side)
  if self.gates[other(side)] == "open" then
    return false, "the " .. other(side) .. " gate is open"
  end
  if not self:is_level(side) then
    return false, "the water is not level with the " .. side .. " reach"
  end
  self.gates[side] = "open"
  return true
end

function Chamber:shut_gate(side)
  if self.gates[side] == "open" then
    self.passages = self.passages + 1
  end
  self.gates[side] = "shut"
  return true
end

function Chamber:raise_paddle(side)
  if self.gates.lower == "open" or self.gates.upper == "open" then
    return false, "a gate is open"
  end
  if self.paddles[other(side)] == "raised" then
    return false, "the " .. other(side) .. " paddle is raised"
  end
  self.paddles[side] = "raised"
  return true
end

function Chamber:drop_paddle(side)
  self.paddles[side] = "shut"
  return true
end

-- Lets water flow for some seconds; the level moves towards the reach whose paddle is raised.
function Chamber:flow(seconds, rate)
  rate = rate or 0.05
  for side, state in pairs(self.paddles) do
    if state == "raised" then
      local target = self:reach(side)
      local step = rate * seconds
      if math.abs(target - self.level) <= step then
        self.level = target
      elseif target > self.level then
        self.level = self.level + step
      else
        self.level = self.level - step
      end
    end
  end
  return self.level
end

function Chamber:seconds_to(side, rate)
  return math.abs(self:reach(side) - self.level) / (rate or 0.05)
end

return Chamber
