-- Tolls in pence, by length and season.

local toll = {}

local SEASONS = { winter = 80, spring = 100, summer = 120, autumn = 100 }

function toll.season(month)
  if month == 12 or month <= 2 then return "winter" end
  if month <= 5 then return "spring" end
  if month <= 8 then return "summer" end
  return "autumn"
end

function toll.pence(length, month)
  assert(month >= 1 and month <= 12, "a month is 1 to 12")
  local share = SEASONS[toll.season(month)]
  return math.floor(length * 35 * share / 100 + 0.5)
end

function toll.written(pence)
  return string.format("%d.%02d", math.floor(pence / 100), pence % 100)
end

return toll
