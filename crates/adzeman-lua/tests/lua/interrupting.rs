//! Scripts that are interrupted by signals at every moment: they go on as if nobody had, and lines are told of as often as they run.

use crate::common::{Go, Ran, run, run_hooked};

/// Calls of the script's own functions and of natives, which return all the time.
const SCRIPT: &str = "\
--interrupted
local level, times = 2, 0
local function rise(by)
  level = level + by
  return level
end
local function deep(n)
  if n > 0 then return deep(n - 1) + rise(0) - 2 end
  return rise(0)
end
local function caught(n) return select(2, pcall(error, n, 0)) end
local turn = coroutine.wrap(function() while true do rise(coroutine.yield(0)) end end)
turn()
for i = 1, 200000 do
  rise(0)
  os.time()
  level = deep(5)
  turn(0)
  times = times + caught(1)
  if i % 5000 == 0 then
    times = times + 1 --stop
  end
end
return level .. ' ' .. times
";

fn result(ran: &Ran) -> String {
    // Numbers of 5.2 are shown without a point.
    ran.outcome.as_ref().unwrap().to_string().unwrap()
}

#[test]
fn a_script_that_is_interrupted_all_the_time_goes_on_as_ever() {
    let ran = run(SCRIPT, |_, _| Go::Freely);
    assert_eq!((result(&ran).as_str(), ran.stops.len()), ("2 200040", 40));
}

#[test]
fn lines_under_the_hook_are_told_of_as_often_as_they_run_whatever_interrupts() {
    let script = SCRIPT.replace("200000", "10000");
    let ran = run_hooked(&script, |_, _| Go::Freely);
    assert_eq!((result(&ran).as_str(), ran.stops.len()), ("2 10002", 2));
    let script = script.replace("level + by", "level + by --stop");
    let ran = run_hooked(&script, |_, _| Go::Freely);
    assert_eq!((result(&ran).as_str(), ran.stops.len()), ("2 10002", 2 + 10_000 * 8));
}
