-- A small test runner: runs test/*_test.lua, prints what fails, writes JUnit XML.

package.path = "./?.lua;" .. package.path

local target = arg[1]
local suites = { "chamber_test", "gauge_test", "queue_test", "toll_test" }

local Failure = {}

local function shown(value)
  return type(value) == "string" and string.format("%q", value) or tostring(value)
end

function expect(actual, expected)
  if actual ~= expected then
    error(setmetatable({ message = "expected " .. shown(expected) .. ", got " .. shown(actual), trace = debug.traceback("", 2) }, Failure), 0)
  end
end

function expect_error(call, part)
  local ok, message = pcall(call)
  if ok or not tostring(message):find(part, 1, true) then
    error(setmetatable({ message = "expected an error with " .. shown(part) .. ", got " .. shown(message), trace = debug.traceback("", 2) }, Failure), 0)
  end
end

local function escaped(text)
  return (tostring(text):gsub("[&<>\"]", { ["&"] = "&amp;", ["<"] = "&lt;", [">"] = "&gt;", ['"'] = "&quot;" }))
end

local report, failed, total = { '<?xml version="1.0" encoding="UTF-8"?>', "<testsuites>" }, 0, 0
for _, suite in ipairs(suites) do
  local tests = require("test." .. suite)
  local rows, bad, began = {}, 0, os.clock()
  for _, test in ipairs(tests) do
    local name, body = test[1], test[2]
    local start = os.clock()
    local ok, problem = xpcall(body, function(e)
      return getmetatable(e) == Failure and e or { message = tostring(e), trace = debug.traceback("", 2), crashed = true }
    end)
    local seconds = string.format("%.4f", os.clock() - start)
    local head = string.format('    <testcase classname="%s" name="%s" time="%s"', suite, escaped(name), seconds)
    total = total + 1
    if ok then
      rows[#rows + 1] = head .. "/>"
    else
      bad = bad + 1
      local kind = problem.crashed and "error" or "failure"
      print(string.format("not ok: %s: %s\n    %s", suite, name, problem.message))
      rows[#rows + 1] = string.format('%s>\n      <%s message="%s">%s</%s>\n    </testcase>', head, kind, escaped(problem.message), escaped(problem.trace), kind)
    end
  end
  failed = failed + bad
  print(string.format("%s: %d tests, %d not ok", suite, #tests, bad))
  report[#report + 1] = string.format('  <testsuite name="%s" tests="%d" failures="%d" time="%.4f">', suite, #tests, bad, os.clock() - began)
  report[#report + 1] = table.concat(rows, "\n")
  report[#report + 1] = "  </testsuite>"
end
report[#report + 1] = "</testsuites>"

if target then
  local file = assert(io.open(target, "w"))
  file:write(table.concat(report, "\n"), "\n")
  file:close()
end
print(string.format("%s: %d tests, %d not ok", _VERSION, total, failed))
os.exit(failed == 0 and 0 or 1)
