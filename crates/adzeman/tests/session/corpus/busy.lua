-- Many calls and lines.
watched = 0
local function fib(n)
  if n < 2 then return n end
  return fib(n - 1) + fib(n - 2)
end
print(fib(11))
local primes = {}
for n = 2, 60 do
  local is_prime = true
  for _, p in ipairs(primes) do
    if p * p > n then break end
    if n % p == 0 then
      is_prime = false
      break
    end
  end
  if is_prime then primes[#primes + 1] = n end
end
print(table.concat(primes, " "))
local words = {}
for word in ("a man a plan a canal"):gmatch("%a+") do
  words[word] = (words[word] or 0) + 1
end
local keys = {}
for key in pairs(words) do keys[#keys + 1] = key end
table.sort(keys)
for _, key in ipairs(keys) do io.write(key, "=", words[key], " ") end
print()
watched = #primes
return watched
