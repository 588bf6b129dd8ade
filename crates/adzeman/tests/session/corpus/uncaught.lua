-- An error that leaves the script, from the depths of it.
local function third(x)
  local y = x .. "!"
  error("it ends here: " .. y)
end
local function second(x)
  third(x)
  return 1
end
print("before")
second("now")
print("never")
