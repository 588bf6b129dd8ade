function order(name, count)
  local total = 0
  for n = 1, count do
    local price = ask_price(n)
    total = total + price
  end
  return total
end
