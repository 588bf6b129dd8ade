//! A host that speaks to Lua by the C API alone, with globals that scripts can neither add to nor ask for in vain.
#![allow(unsafe_code)]

use std::ffi::CStr;
use std::thread;

use adzeman::{Host, Listen, LuaContext, lua_of};
use mlua::ffi;
use serde_json::json;

use crate::harness::Client;

const STRICT: &CStr = c"local real = print
printed = 0
print = function(...) printed = printed + select('#', ...) end
level = 0
setmetatable(_G, {
  __index = function(_, name) error('no global ' .. name) end,
  __newindex = function(_, name) error('no new global ' .. name) end,
})
return real";
const SCRIPT: &CStr = c"adzeman.wait(20)
print('caf\xe9', nil)
adzeman.say('level', level)
level = level + 1
adzeman.stop()
return level, printed";

/// Runs a text, and leaves what it returns.
///
/// # Safety
/// `raw` is a live state of this thread.
unsafe fn run(raw: *mut ffi::lua_State, text: &CStr, name: &CStr) {
    // SAFETY: given by the caller.
    unsafe {
        let bytes = text.to_bytes();
        let status = ffi::luaL_loadbufferx(raw, bytes.as_ptr().cast(), bytes.len(), name.as_ptr(), c"t".as_ptr());
        assert_eq!(status, ffi::LUA_OK, "{:?}", CStr::from_ptr(ffi::lua_tostring(raw, -1)));
        let status = ffi::lua_pcall(raw, 0, ffi::LUA_MULTRET, 0);
        assert_eq!(status, ffi::LUA_OK, "{:?}", CStr::from_ptr(ffi::lua_tostring(raw, -1)));
    }
}

#[test]
fn a_state_made_by_the_c_api_is_one_like_others() {
    let host = Host::builder("test").start(Listen::ANY_PORT).unwrap();
    let running = thread::spawn({
        let host = host.clone();
        // SAFETY: the state is made, used and closed on this thread, and outlives the context.
        move || unsafe {
            let raw = ffi::luaL_newstate();
            ffi::luaL_openlibs(raw);
            run(raw, STRICT, c"=strict");
            ffi::lua_settop(raw, 0);
            let context = LuaContext::attach(&host, &lua_of(raw), "raw").unwrap();
            run(raw, SCRIPT, c"@toll.lua");
            let found = (ffi::lua_tointeger(raw, -2), ffi::lua_tointeger(raw, -1));
            drop(context);
            // It prints as before, without anyone who watches.
            run(
                raw,
                c"print(1, 2, 3) assert(not adzeman.wait(0)) adzeman.say('x') adzeman.stop() return printed",
                c"=after",
            );
            let after = ffi::lua_tointeger(raw, -1);
            ffi::lua_close(raw);
            (found, after)
        }
    });
    let mut client = Client::attached(&host);
    client.ok("configurationDone", json!({}));
    let printed = client.event("output");
    assert_eq!((printed["output"].as_str(), printed["line"].as_i64()), (Some("caf\u{fffd}\tnil\n"), Some(2)));
    let said = client.event("output");
    assert_eq!((said["output"].as_str(), said["line"].as_i64()), (Some("level\t0\n"), Some(3)));
    let (_, line) = client.stopped();
    assert_eq!(line, 5);
    assert_eq!(client.evaluate("level"), "1");
    client.go_on("continue");
    assert_eq!(running.join().unwrap(), ((1, 2), 5));
}
