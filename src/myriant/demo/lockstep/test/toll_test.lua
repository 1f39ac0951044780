local toll = require("lockstep.toll")

local tests = {}
local function test(name, body) tests[#tests + 1] = { name, body } end

local seasons = { "winter", "winter", "spring", "spring", "spring", "summer", "summer", "summer", "autumn", "autumn", "autumn", "winter" }
for month, season in ipairs(seasons) do
  test("month " .. month .. " is " .. season, function() expect(toll.season(month), season) end)
end
for _, case in ipairs({ { 10, 1, 280 }, { 10, 4, 350 }, { 10, 7, 420 }, { 17, 10, 595 } }) do
  test(case[1] .. " m in month " .. case[2], function() expect(toll.pence(case[1], case[2]), case[3]) end)
end
test("a month beyond the year is refused", function() expect_error(function() toll.pence(10, 13) end, "1 to 12") end)
for _, case in ipairs({ { 5, "0.05" }, { 280, "2.80" }, { 1234, "12.34" } }) do
  test(case[1] .. " pence are written " .. case[2], function() expect(toll.written(case[1]), case[2]) end)
end

return tests
