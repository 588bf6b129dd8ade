//! What loading costs: `cargo bench -p adzeman --bench loading`. Prints, as ratios to the engine's own loading, the time of long
//! scripts while nobody is attached; and the time of a chunk while somebody is and a breakpoint waits for another one, for more
//! and more of them, as ratios to the first row of each table.

mod support;

use std::time::Instant;

use adzeman::{Host, Listen, LuaContext};
use mlua::Lua;
use serde_json::json;

use support::Client;

/// Rounds of which the least time counts.
const ROUNDS: usize = 9;

fn main() {
    println!("nobody is attached");
    let lines: String = (0..100_000).map(|n| format!("x{} = (x{} or 0) + {n}\n", n % 100, n % 99)).collect();
    let constants: String = (0..70_000).map(|n| format!("'text {n}',")).collect();
    compare("100,000 lines", &lines);
    compare("70,000 constants", &format!("return {{{constants}}}"));
    compare("3 lines", "local n = 1\nlocal m = 2\nreturn n + m");
    for waiting in [0, 1, 20] {
        println!("\n{waiting} breakpoints wait");
        let mut first = None;
        for chunks in [300_u32, 1_000, 3_000] {
            let each = load(chunks, waiting);
            let ratio = each / *first.get_or_insert(each);
            println!("{chunks:>6} chunks: {each:>7.1} us each, {ratio:.2}x");
        }
    }
}

/// Prints the time that loading takes with us, as a ratio to that without.
fn compare(name: &str, text: &str) {
    let host = Host::builder("loader").start(Listen::Off).expect("a host");
    let lua = Lua::new();
    let context = LuaContext::attach(&host, &lua, "loader").expect("a context");
    let times = if text.len() < 1000 { 1_000 } else { 1 };
    let time = |round: usize, load: &dyn Fn(usize)| {
        lua.gc_collect().expect("collected");
        let begun = Instant::now();
        (0..times).for_each(|number| load(round * times + number));
        begun.elapsed().as_secs_f64() / f64::from(u32::try_from(times).unwrap_or(u32::MAX))
    };
    let plainly = |number: usize| drop(lua.load(text).set_name(format!("@own{number}.lua")).into_function());
    let with_us = |number: usize| drop(context.load(&format!("chunk{number}.lua"), text));
    let (mut own, mut ours) = (f64::MAX, f64::MAX);
    for round in 0..ROUNDS {
        own = own.min(time(round, &plainly));
        ours = ours.min(time(round, &with_us));
    }
    println!("{name:>18}: {:>9.1} us, {:.3}x of the engine's own", ours * 1e6, ours / own);
}

/// Microseconds for each of so many chunks.
fn load(chunks: u32, waiting: u32) -> f64 {
    let host = Host::builder("loader").start(Listen::Off).expect("a host");
    let lua = Lua::new();
    let context = LuaContext::attach(&host, &lua, "loader").expect("a context");
    let (reader, writer) = host.connect().expect("a session");
    let asking = std::thread::spawn(move || {
        let mut client = Client::attach(reader, writer, "");
        for number in 0..waiting {
            let source = json!({"path": format!("waiting{number}.lua")});
            client.request("setBreakpoints", json!({"source": source, "breakpoints": [{"line": 2}]}));
        }
        client.request("configurationDone", json!({}));
        client
    });
    while !asking.is_finished() {
        host.poll();
    }
    let client = asking.join().expect("attached");
    let begun = Instant::now();
    for number in 0..chunks {
        let text = format!("local n = {number}\nreturn function(x) return n + x end");
        context.load(&format!("chunk{number}.lua"), &text).and_then(|body| body.call::<()>(())).expect("it runs");
    }
    let each = begun.elapsed().as_secs_f64() * 1e6 / f64::from(chunks);
    drop(client);
    each
}
