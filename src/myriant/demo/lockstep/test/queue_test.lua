local Queue = require("lockstep.queue")

local tests = {}
local function test(name, body) tests[#tests + 1] = { name, body } end

local function queue(...)
  local q = Queue.new()
  for _, boat in ipairs({ ... }) do q:join(boat) end
  return q
end
local heron, otter, teal = { name = "Heron", length = 17 }, { name = "Otter", length = 9 }, { name = "Teal", length = 21 }
local rescue = { name = "Lifeline", length = 8, rescue = true }

test("first come, first served", function() expect(queue(heron, otter):next().name, "Heron") end)
test("a rescue boat goes first", function() expect(queue(heron, otter, rescue):next().name, "Lifeline") end)
test("rescue boats keep their order", function()
  local q = queue(rescue, heron, { name = "Second", length = 8, rescue = true })
  q:next()
  expect(q:next().name, "Second")
end)
test("joining tells the length of the queue", function() expect(Queue.new():join(otter), 1) end)
test("a boat without a name is refused", function() expect_error(function() Queue.new():join({ name = "" }) end, "has a name") end)
test("an empty queue gives no boat", function() expect(Queue.new():next(), nil) end)
test("the length of all boats", function() expect(queue(heron, otter, teal):length(), 47) end)
for _, case in ipairs({ { 10, 0 }, { 17, 1 }, { 26, 2 }, { 46, 2 }, { 47, 3 } }) do
  test("a chamber of " .. case[1] .. " m takes " .. case[2] .. " boats", function()
    expect(#(queue(heron, otter, teal):locking(case[1])), case[2])
  end)
end
test("boats that do not fit stay", function()
  local q = queue(heron, otter)
  q:locking(20)
  expect(q:next().name, "Otter")
end)

return tests
