local Chamber = require("lockstep.chamber")

local tests = {}
local function test(name, body) tests[#tests + 1] = { name, body } end

test("a new chamber stands at the lower reach", function() expect(Chamber.new(1.2, 3.4).level, 1.2) end)
test("the upper reach must be higher", function() expect_error(function() Chamber.new(2, 1) end, "above the lower one") end)

for _, side in ipairs({ "lower", "upper" }) do
  local away = side == "lower" and "upper" or "lower"
  local function at(level_side)
    local c = Chamber.new(1, 3)
    c.level = c:reach(level_side)
    return c
  end
  test("the " .. side .. " gate opens when the water is level", function() expect(at(side):open_gate(side), true) end)
  test("the " .. side .. " gate stays shut when the water is not level", function()
    local ok, why = at(away):open_gate(side)
    expect(ok, false)
    expect(why, "the water is not level with the " .. side .. " reach")
  end)
  test("the " .. side .. " gate stays shut while the other is open", function()
    local c = at(side)
    c.gates[away] = "open"
    local ok, why = c:open_gate(side)
    expect(ok, false)
    expect(why, "the " .. away .. " gate is open")
  end)
  test("the " .. side .. " paddle rises when both gates are shut", function() expect(at(side):raise_paddle(side), true) end)
  test("the " .. side .. " paddle stays shut while a gate is open", function()
    local c = at(side)
    c:open_gate(side)
    local ok, why = c:raise_paddle(side)
    expect(ok, false)
    expect(why, "a gate is open")
  end)
  test("the " .. side .. " paddle stays shut while the other is raised", function()
    local c = at(side)
    c:raise_paddle(away)
    expect(c:raise_paddle(side), false)
  end)
  test("a dropped " .. side .. " paddle stops the water", function()
    local c = at(away)
    c:raise_paddle(side)
    c:drop_paddle(side)
    expect(c:flow(10), c:reach(away))
  end)
  test("water reaches the " .. side .. " level and no further", function()
    local c = at(away)
    c:raise_paddle(side)
    expect(c:flow(1000), c:reach(side))
  end)
  test("the time to the " .. side .. " level is known", function() expect(at(away):seconds_to(side), 40) end)
end

for _, seconds in ipairs({ 1, 5, 10, 20 }) do
  test("in " .. seconds .. " s the chamber fills by the rate", function()
    local c = Chamber.new(0, 10)
    c:raise_paddle("upper")
    expect(string.format("%.3f", c:flow(seconds)), string.format("%.3f", 0.05 * seconds))
  end)
end

test("a passage is counted when a gate shuts", function()
  local c = Chamber.new(1, 3)
  c:open_gate("lower")
  c:shut_gate("lower")
  expect(c.passages, 1)
end)
test("shutting a shut gate counts nothing", function()
  local c = Chamber.new(1, 3)
  c:shut_gate("lower")
  expect(c.passages, 0)
end)

return tests
