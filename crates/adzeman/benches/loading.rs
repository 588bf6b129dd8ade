//! What a chunk costs that is loaded while somebody is attached and a breakpoint waits for another one: `cargo bench -p adzeman
//! --bench loading`. Prints the time of a chunk for more and more of them, as ratios to the first row of each table.

mod support;

use std::time::Instant;

use adzeman::{Host, Listen, LuaContext};
use mlua::Lua;
use serde_json::json;

use support::Client;

fn main() {
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
