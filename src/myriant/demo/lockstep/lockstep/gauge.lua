-- What the gauge board shows: levels in metres, one line a lock.

local gauge = {}

function gauge.metres(level)
  return string.format("%.2f m", level)
end

function gauge.line(levels)
  local shown = {}
  for i, level in ipairs(levels) do
    shown[i] = gauge.metres(level)
  end
  return table.concat(shown, " | ")
end

function gauge.bar(level, low, high, width)
  local filled = math.floor((level - low) / (high - low) * width + 0.5)
  filled = math.max(0, math.min(width, filled))
  return "[" .. string.rep("=", filled) .. string.rep(".", width - filled) .. "]"
end

function gauge.ruler(marks)
  local cells = {}
  for i = 1, marks do cells[i] = "+----" end
  return table.concat(cells, " ")
end

function gauge.trend(before, now)
  if now - before > 0.005 then return "rising" end
  if before - now > 0.005 then return "falling" end
  return "steady"
end

return gauge
