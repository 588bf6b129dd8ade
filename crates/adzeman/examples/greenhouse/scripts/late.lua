local late = {}

function late.arrive(n)
  local seeds = {}
  for i = 1, n do
    seeds[i] = i * i
  end
  return #seeds
end

return late
