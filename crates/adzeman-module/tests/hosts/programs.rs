//! Programs of the system that run scripts, each with one that loads the module: a packet analyser (`tshark`), a proxy (`haproxy`) and a
//! media player (`mpv`). None needs a network or a monitor.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;
use std::time::{Duration, Instant};

use crate::user::{Program, User, command, folder, has, leave_out, text};

/// A program of the system, told where the module is; nothing where it is not there.
fn prepared(user: &User, program: &str) -> Option<Command> {
    if Command::new(program).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status().is_err() {
        leave_out(&format!("there is no {program}"));
        return None;
    }
    let mut prepared = user.prepared(program);
    prepared.env("LUA_PATH", format!("{}/?.lua;;", folder().display())).env("HOME", user.0.path());
    Some(prepared)
}

/// Frames on the wire, each with the number of a passage and the state of a gate: `tshark` reads them from a file.
fn capture(count: u16) -> Vec<u8> {
    let mut file = Vec::new();
    let header: [u32; 6] = [0xa1b2_c3d4, 2 | 4 << 16, 0, 0, 65535, 1];
    header.iter().for_each(|word| file.extend(word.to_le_bytes()));
    for number in 0..count {
        let [high, low] = number.to_be_bytes();
        let told = [b'L', b'O', b'C', b'K', high, low, low % 7];
        // Ethernet, IPv4, UDP to port 4711; no checksum is looked at.
        let mut frame = [[0; 12].as_slice(), &[8, 0]].concat();
        frame.extend([0x45, 0, 0, 35, high, low, 0, 0, 64, 17, 0, 0, 10, 0, 0, 1, 10, 0, 0, 2]);
        frame.extend([0x9c, 0x40, 0x12, 0x67, 0, 15, 0, 0]);
        frame.extend(told);
        let length = u32::try_from(frame.len()).unwrap();
        [u32::from(number), 0, length, length].iter().for_each(|word| file.extend(word.to_le_bytes()));
        file.extend(frame);
    }
    file
}

#[test]
fn a_dissector_of_a_packet_analyser_is_stopped_in_and_looked_at() {
    // It gives each script globals of its own, and honours `LUA_PATH` alone of what the command sets.
    let user = User::new(
        r#"local adzeman = require "adzeman"
local lock = Proto("lock", "Lock")
local passage = ProtoField.uint16("lock.passage", "Passage")
lock.fields = { passage }
local seen = 0
tolls = { high = 12 }
function lock.dissector(buffer, info, tree)
  seen = seen + 1
  local number = buffer(4, 2):uint()
  local shown = tree:add(lock, buffer(), "Lock")
  shown:add(passage, buffer(4, 2))
  info.cols.protocol = "LOCK"
end
DissectorTable.get("udp.port"):add(4711, lock)
"#,
    );
    if prepared(&user, "tshark").is_none() {
        return;
    }
    std::fs::write(user.0.path().join("canal.pcap"), capture(200)).unwrap();
    let mut start = user.prepared(command());
    start.env("ADZEMAN_MODULE", folder()).env("HOME", user.0.path()).args([
        "start",
        "--with-module",
        "--batch",
        "-",
        "--",
    ]);
    start.args(["tshark", "-r", "canal.pcap", "-X", "lua_script:canal.lua"]);
    let output = crate::user::fed(
        &mut start,
        "break on packet.dissected when event.number == 12\ngo\nlook event\nlook stack\nremove all\n\
         break at canal.lua:10 when number == 42\ngo\nlook number\nlook info.number\nlook info\nlook tolls.high\n\
         go over\nlook shown\nlet seen = 7\nremove all\n",
    );
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}{}", text(&output.stderr));
    has(
        &shown,
        &[
            "length   7",
            "canal.lua:8\n    1  packet.dissected, raised by tshark",
            "stopped by breakpoint 2, in lock.dissector",
            "number = 42",
            "43  number",
            "12  number",
            "userdata with the text \"a Pinfo\"",
            "'look info.abs_ts' computes it",
            "seen is now 7",
            "LOCK",
        ],
    );
}

/// Asks the proxy for a toll, as long as it answers at all.
fn asked(port: u16, length: u32) -> std::io::Result<String> {
    let mut stream = TcpStream::connect(("127.0.0.1", port))?;
    write!(stream, "GET / HTTP/1.1\r\nhost: canal\r\nx-length: {length}\r\nconnection: close\r\n\r\n")?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer)?;
    Ok(answer)
}

#[test]
fn a_request_handler_of_a_proxy_is_stopped_in_and_changed_by_who_attaches_while_it_rests() {
    // It runs each request in a coroutine of its own, under a hook of its own, on whichever of its threads; and it has a use of its own
    // for the signal.
    let user = User::new(
        r#"local adzeman = require "adzeman"
core.register_service("toll", "http", function(applet)
  local length = tonumber(applet.headers["x-length"][0])
  local fare = 10 + length * 2
  local body = "toll " .. fare
  applet:set_status(200)
  applet:add_header("content-length", string.len(body))
  applet:start_response()
  applet:send(body)
end)
"#,
    );
    let Some(mut proxy) = prepared(&user, "haproxy") else { return };
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let settings = format!(
        "global\n  nbthread 2\n  lua-load canal.lua\ndefaults\n  mode http\n  timeout client 60s\n  timeout connect 5s\n  \
         timeout server 60s\nfrontend canal\n  bind 127.0.0.1:{port}\n  http-request use-service lua.toll\n"
    );
    std::fs::write(user.0.path().join("canal.cfg"), settings).unwrap();
    let program = Program(Some(proxy.env("ADZEMAN", "dormant").args(["-db", "-f", "canal.cfg"]).spawn().unwrap()));
    user.await_host("haproxy");
    let until = Instant::now() + Duration::from_secs(60);
    while asked(port, 24).is_err() {
        assert!(Instant::now() < until, "it does not serve");
    }
    let is_over = AtomicBool::new(false);
    thread::scope(|scope| {
        // Somebody asks now and then: in between nothing of a script runs.
        let customer = scope.spawn(|| {
            let mut answers = Vec::new();
            while !is_over.load(SeqCst) && Instant::now() < until {
                answers.push(asked(port, 30).unwrap());
                thread::sleep(Duration::from_millis(30));
            }
            answers
        });
        for _ in 0..5 {
            let shown = user.attached(
                "break at canal.lua:5 when length == 30\ngo\nlook fare\nlook applet.headers\nlet fare = 1\nremove all\n",
            );
            has(
                &shown,
                &["stopped by breakpoint 1, in function at canal.lua:2", "70  integer", "x-length", "fare is now 1"],
            );
        }
        // Its guide lies beside the module.
        let shown =
            user.attached("break on request.served for toll when event.path == \"/\"\ngo\nlook stack\nremove all\n");
        has(&shown, &["canal.lua:3", "request.served of toll, raised by haproxy"]);
        is_over.store(true, SeqCst);
        let answers = customer.join().unwrap();
        assert!(answers.iter().any(|answer| answer.ends_with("toll 70")), "{answers:?}");
        assert!(answers.iter().filter(|answer| answer.ends_with("toll 1")).count() >= 5, "{answers:?}");
    });
    assert!(asked(port, 24).unwrap().ends_with("toll 58"));
    drop(program);
}

#[test]
fn a_script_of_a_media_player_is_stopped_in_and_changed() {
    let user = User::new(
        r#"local adzeman = require "adzeman"
local passages = 0
local function pass(by)
  passages = passages + by
  return passages
end
mp.add_periodic_timer(0.02, function()
  if pass(1) > 1000000 then mp.command("quit") end
end)
"#,
    );
    let Some(mut player) = prepared(&user, "mpv") else { return };
    player.args(["--no-config", "--vo=null", "--ao=null", "--really-quiet", "--loop=inf", "--script=./canal.lua"]);
    let picture = "av://lavfi:color=c=blue:s=64x64:r=25:d=5";
    let program = Program(Some(player.env("ADZEMAN", "dormant").arg(picture).spawn().unwrap()));
    user.await_host("mpv");
    let shown = user.attached(
        "break on timer.due\ngo\nlook stack\nremove all\n\
         break at canal.lua:5\ngo\nlook passages\nlook stack\ngo out\nremove all\nbreak in pass when passages > 3\ngo\n\
         let passages = 2000000\nremove all\n",
    );
    has(
        &shown,
        &[
            "canal.lua:8\n    1  timer.due, raised by mpv",
            "stopped by breakpoint 2, in pass",
            "canal.lua:8",
            "passages is now 2000000",
        ],
    );
    // It quits by what was changed.
    assert!(program.ended().status.success());
}
