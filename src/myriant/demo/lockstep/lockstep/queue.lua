-- Boats waiting at a lock: first come, first served, except rescue craft.

local Queue = {}
Queue.__index = Queue

function Queue.new()
  return setmetatable({ boats = {} }, Queue)
end

function Queue:join(boat)
  assert(type(boat.name) == "string" and boat.name ~= "", "a boat has a name")
  if boat.rescue then
    local at = 1
    while self.boats[at] and self.boats[at].rescue do at = at + 1 end
    table.insert(self.boats, at, boat)
  else
    table.insert(self.boats, boat)
  end
  return #self.boats
end

function Queue:next()
  return table.remove(self.boats, 1)
end

function Queue:length()
  local total = 0
  for _, boat in ipairs(self.boats) do total = total + (boat.length or 0) end
  return total
end

-- Takes as many boats, in order, as fit the chamber side by side and one behind the other.
function Queue:locking(chamber_length)
  local taken, used = {}, 0
  while self.boats[1] and used + self.boats[1].length <= chamber_length do
    local boat = self:next()
    used = used + boat.length
    taken[#taken + 1] = boat
  end
  return taken, used
end

return Queue
