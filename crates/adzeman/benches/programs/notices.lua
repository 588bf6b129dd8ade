-- Notices to skippers: text put together, searched and taken apart, by the string library.
--: local word == "flood"
--: captured separator == "flood"
--: field counts.flood == 1
--: nested board.counts.flood == 1
--: global language == "none"
--: call is_alarm(word)
--: watch local rounds
--: watch captured separator
--: watch global language
--: watch field board.name
--: written spare.lock
local separator = ", "
local board = { name = "lock", counts = { flood = 0 } }
language = "plain"
spare = { lock = 1 }

function is_alarm(word)
  return word == "flood"
end

local text = "the upper lock is closed until noon while the gate is mended and boats wait below the weir"

local function notice(number)
  local words, counts = {}, {}
  for word in text:gmatch("%a+") do
    counts[word] = (counts[word] or 0) + 1 -- @hot
    if #word > 100 then
      word = "" -- @never
    end
    words[#words + 1] = word:upper() .. number
  end
  table.sort(words)
  local line = table.concat(words, separator) .. board.name
  return #line:gsub("LOCK", "BASIN"), line:find("WEIR", 1, true)
end

function run(rounds)
  local length = 0 -- @stop
  for number = 1, rounds * 50 do
    length = length + notice(number)
  end
  return length, separator, board
end
