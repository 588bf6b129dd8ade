local booked = 0

function book(amount)
  booked = booked + amount
  if booked > 100 then
    booked = booked - 100
  end
  return booked
end
