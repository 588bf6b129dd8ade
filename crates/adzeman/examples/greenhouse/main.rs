//! A greenhouse: an application with the shapes that applications have, which people can attach to. Its scripts come by `require`,
//! by a loader of its own and by `load`; they run on one thread, on whichever is free, as coroutines that it resumes by itself, and
//! as asynchronous tasks; its state is plain `&mut`; it limits its scripts by a hook of its own.
//!
//! `cargo run -p adzeman --example greenhouse --features async,send` prints the address to attach to and ends after 600 days (or
//! `-- DAYS`), ten of them a second.

mod house;

use std::sync::Arc;
use std::thread::sleep;
use std::time::Duration;

use adzeman::Listen;
use mlua::{HookTriggers, Lua, VmState};

use house::{House, describe};

/// The application's own limit on its scripts, which stays in force whoever attaches.
fn limit(lua: &Lua) -> mlua::Result<()> {
    lua.set_global_hook(HookTriggers::new().every_nth_instruction(1_000_000), |_, _| Ok(VmState::Continue))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let days = std::env::args().nth(1).map_or(Ok(600), |text| text.parse::<i64>())?;
    let host = describe().start(Listen::ANY_PORT)?; // Listen::from_env()? opens nothing unless ADZEMAN asks for it.
    if let Some(address) = host.address() {
        println!("attach with: cargo run -- attach {address}");
    }
    let house = House::new(host, true, Arc::new(limit));
    let mut opened = house.open()?;
    for day in 1..=days {
        let water = house.run(&mut opened, day..=day)?;
        println!("day {day}: {water:?} l");
        sleep(Duration::from_millis(100));
    }
    Ok(())
}
