local gauge = require("lockstep.gauge")

local tests = {}
local function test(name, body) tests[#tests + 1] = { name, body } end

for _, case in ipairs({ { 0, "0.00 m" }, { 1.234, "1.23 m" }, { -0.5, "-0.50 m" }, { 12, "12.00 m" } }) do
  test("a level of " .. case[1] .. " is written as " .. case[2], function() expect(gauge.metres(case[1]), case[2]) end)
end
test("a line shows every lock", function() expect(gauge.line({ 1.2, 1.35, 0.8 }), "1.20 m | 1.35 m | 0.80 m") end)
test("a line of one lock has no bar", function() expect(gauge.line({ 2 }), "2.00 m") end)
test("a line of no lock is empty", function() expect(gauge.line({}), "") end)
test("a ruler has its marks apart", function() expect(gauge.ruler(3), "+---- +---- +----") end)
test("a ruler of one mark", function() expect(gauge.ruler(1), "+----") end)
for _, case in ipairs({ { 1, "[.....]" }, { 2, "[===..]" }, { 3, "[=====]" }, { 9, "[=====]" }, { 0, "[.....]" } }) do
  test("a bar at level " .. case[1], function() expect(gauge.bar(case[1], 1, 3, 5), case[2]) end)
end
test("rising water", function() expect(gauge.trend(1.00, 1.10), "rising") end)
test("falling water", function() expect(gauge.trend(1.10, 1.00), "falling") end)
test("still water", function() expect(gauge.trend(1.001, 1.00), "steady") end)

return tests
