//! The smallest host: one number, one script, one event.
//!
//! `cargo run --example minimal_host` prints the address to attach to, and ends after a minute (or `-- FRAMES` frames).

use std::sync::{Arc, Mutex};
use std::thread::sleep;
use std::time::Duration;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};

const SCRIPT: &str = "\
local pumped = 0

function update(dt, level)
  if level > 2.0 then
    pumped = pumped + 1
    print('pumping for the', pumped, 'time')
    return level - 1.0
  end
  return level + dt
end
";

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let frames = std::env::args().nth(1).map_or(Ok(600), |text| text.parse::<u32>())?;

    // 1. What the host lets people see: its state, behind a lock, and its events.
    let level = Arc::new(Mutex::new(1.0_f64));
    let host = Host::builder("minimal")
        .editable_object("level", level.clone())
        .event(EventKind::new("frame.update").doc("ten times a second").field("dt", "seconds since the last frame"))
        .start(Listen::ANY_PORT)?; // Listen::from_env()? opens nothing unless ADZEMAN asks for it.
    if let Some(address) = host.address() {
        println!("attach with: cargo run -- attach {address}");
    }

    // 2. A script state, opened as a context; the script is loaded by it, so that its lines can hold breakpoints.
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(&host, &lua, "pump")?;
    context.load("pump.lua", SCRIPT)?.call::<()>(())?;
    let update: mlua::Function = lua.globals().get("update")?;

    // 3. The host's own loop: each call of a script is an event, and no lock is held meanwhile.
    for _ in 0..frames {
        let (dt, before) = (0.1, *level.lock().map_err(|error| error.to_string())?);
        let after = host.emit(Event::of("frame.update").with("dt", dt), || update.call::<f64>((dt, before)))?;
        *level.lock().map_err(|error| error.to_string())? = after;
        sleep(Duration::from_millis(100));
    }
    Ok(())
}
