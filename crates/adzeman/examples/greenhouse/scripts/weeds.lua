local pulled = 0

return function(n)
  pulled = pulled + n
  return pulled
end
