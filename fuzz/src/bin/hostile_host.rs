//! A host in a process of its own, with a script that has saved everything before anyone comes. It says where it listens and its
//! token, does frames until its standard input ends, and counts them in `host.frames`.

use std::io::Read as _;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::thread;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};

const SCRIPT: &str = "\
saved = {pcall = pcall, xpcall = xpcall, resume = coroutine.resume, close = coroutine.close, error = error,
  setmetatable = setmetatable, collect = collectgarbage, exit = os.exit, match = string.match,
  forever = function() while true do end end}
saved.old = coroutine.create(function() local n = 0 while true do n = n + 1 end end)
saved.waiting = coroutine.wrap(function() coroutine.yield() while true do end end)
saved.waiting()
local behaviour = coroutine.wrap(function() while true do coroutine.yield() end end)
function update(n)
  local length = n % 5
  local level = length + 1
  behaviour()
  return level
end";

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let frames = Arc::new(Mutex::new(0_u64));
    let host = Host::builder("hostile")
        .event(EventKind::new("frame.update").doc("a frame").field("n", "its number"))
        .object("frames", frames.clone())
        .start(Listen::ANY_PORT)?;
    let address = host.address().ok_or("it listens nowhere")?;
    println!("{address} {}", host.token());
    let ends = Arc::new(AtomicBool::new(false));
    let until = ends.clone();
    thread::spawn(move || {
        // Its end is the end of who started this.
        let _ = std::io::stdin().read_to_end(&mut Vec::new());
        until.store(true, SeqCst);
    });
    // As small a stack as threads of hosts have.
    let running = thread::Builder::new().name("script".to_owned()).stack_size(256 * 1024).spawn(move || {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(&host, &lua, "main").expect("a context");
        context.load("scripts/toll.lua", SCRIPT).and_then(|body| body.call::<()>(())).expect("a script that runs");
        let update: mlua::Function = lua.globals().get("update").expect("it is there");
        while !ends.load(SeqCst) {
            let n = {
                let mut frames = frames.lock().expect("nobody panics with it");
                *frames += 1;
                *frames
            };
            let _ = host.emit(Event::of("frame.update").with("n", n), || update.call::<mlua::Value>(n));
            // What an evaluation has left is collected as always.
            if n % 50 == 0 {
                let _ = lua.gc_step();
            }
            thread::yield_now();
        }
        host.close();
    })?;
    running.join().map_err(|_| "the script's thread panicked".into())
}
