//! Texts that try to hold or end the host: loops, message handlers, closing values, finalizers, coroutines old and new, functions
//! saved before anyone came, deep and long texts, composed at random; and the entries that they are put into.

use arbitrary::{Result, Unstructured};

/// Where a text can be put.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Entry {
    /// Asked by a person.
    Expression,
    /// Evaluated at each stop.
    Watch,
    /// Under the pointer.
    Hover,
    /// Completed.
    Completion,
    /// Rows and columns.
    Table,
    /// The value that something is to be given.
    Assignment,
    /// The condition of a breakpoint on a line.
    Condition,
    /// The condition of a breakpoint on an event, asked at the host's boundary.
    EventCondition,
    /// In a log message.
    Message,
    /// The statement of a breakpoint.
    Statement,
    /// Sampled while the host runs.
    Monitor,
    /// Run as the script would, and then cancelled.
    Run,
}

/// All of them.
pub const ENTRIES: [Entry; 12] = [
    Entry::Expression,
    Entry::Watch,
    Entry::Hover,
    Entry::Completion,
    Entry::Table,
    Entry::Assignment,
    Entry::Condition,
    Entry::EventCondition,
    Entry::Message,
    Entry::Statement,
    Entry::Monitor,
    Entry::Run,
];

fn pick<'a>(input: &mut Unstructured<'_>, from: &[&'a str]) -> Result<&'a str> {
    input.choose(from).copied()
}

/// Originals that the script has saved, and what is there now.
const PROTECTED: [&str; 3] = ["pcall", "saved.pcall", "select(2, saved.pcall"];
const RESUME: [&str; 3] = ["coroutine.resume", "saved.resume", "saved.pcall(saved.resume"];

/// A function that takes for ever, or ends in something that does.
fn function(input: &mut Unstructured<'_>, levels: u32) -> Result<String> {
    if levels == 0 {
        return Ok(pick(
            input,
            &[
                "saved.forever",
                "function() while true do end end",
                "function() repeat local x = 1 until false end",
                "function() for i = 1, math.huge do end end",
                "function() ::again:: goto again end",
                "function() while true do saved.pcall(saved.error, 'x') end end",
                "function() local s = 'x' while true do s = s .. s end end",
                "function() local t = {} while true do t[#t + 1] = {} end end",
                "function() while true do saved.collect('step') end end",
                "function() while true do coroutine.wrap(function() end)() end end",
            ],
        )?
        .to_owned());
    }
    Ok(format!("function(...) {} end", statement(input, levels - 1)?))
}

/// A statement that tries not to come back.
fn statement(input: &mut Unstructured<'_>, levels: u32) -> Result<String> {
    let one = function(input, levels)?;
    let other = function(input, levels.saturating_sub(1))?;
    let protected = pick(input, &PROTECTED)?;
    let closed = if protected.contains("(") { ")" } else { "" };
    let resume = pick(input, &RESUME)?;
    let resumed = if resume.contains("(") { "," } else { "(" };
    Ok(match input.int_in_range(0..=23)? {
        0 => format!("({one})()"),
        1 => format!("while true do local a = {protected}({one}){closed} end"),
        2 => format!("local a = xpcall({one}, {other})"),
        3 => format!("local a = saved.xpcall({one}, {other}) ({one})()"),
        4 => format!("local a = saved.xpcall(saved.error, {other}, 'x')"),
        5 => format!("local function f() local a = {protected}(f){closed} f() end f()"),
        6 => format!("local c <close> = saved.setmetatable({{}}, {{__close = {one}}})"),
        7 => format!("local c <close> = setmetatable({{}}, {{__close = {one}}}) error('x')"),
        8 => format!("local c <close> = setmetatable({{}}, {{__close = {one}}}) ({other})()"),
        9 => format!("local c <close> = setmetatable({{}}, {{__close = coroutine.yield}}) ({one})()"),
        10 => format!("setmetatable({{}}, {{__gc = {one}}}) collectgarbage()"),
        11 => format!("saved.setmetatable({{}}, {{__gc = {one}}}) saved.collect('collect') saved.collect()"),
        12 => format!("do local m = {{__gc = true}} setmetatable({{}}, m) m.__gc = {one} end collectgarbage('step')"),
        13 => format!("coroutine.wrap({one})()"),
        14 => format!("local a = {resume}{resumed} coroutine.create({one}))"),
        15 => format!("local a = {resume}{resumed} saved.old) ({one})()"),
        16 => format!("while true do local a = {resume}{resumed} saved.old) end"),
        17 => format!(
            "local co = coroutine.create({one}) local a = {resume}{resumed} co) coroutine.close(co) ({other})()"
        ),
        18 => "saved.waiting()".to_owned(),
        19 => format!("return setmetatable({{}}, {{__index = {one}}}).x"),
        20 => format!("table.sort({{3, 2, 1}}, {one})"),
        21 => format!("return (('x'):rep(9):gsub('x', {one}))"),
        22 => format!("return tostring(setmetatable({{}}, {{__tostring = {one}}}))"),
        _ => format!("error(setmetatable({{}}, {{__tostring = {one}, __index = {other}, __name = 5}}))"),
    })
}

/// A text that tries to hold the host, as an expression.
///
/// # Errors
/// When there are no more bytes.
pub fn hostile_text(input: &mut Unstructured<'_>) -> Result<String> {
    const DEEP: [(&str, &str); 6] =
        [("(", ")"), ("{", "}"), ("- ", ""), ("not ", ""), ("'a' .. ", ""), ("(function() return ", " end)()")];
    Ok(match input.int_in_range(0..=15)? {
        0 => {
            let (open, close) = input.choose(&DEEP)?;
            let levels = *input.choose(&[150, 1554, 4774, 20_000])?;
            format!("{}1{}", open.repeat(levels), close.repeat(levels))
        }
        1 => "1 or ".repeat(*input.choose(&[4774, 9_000, 12_000])?) + "1",
        2 => pick(input, &["os.exit()", "saved.exit(1)", "debug.debug()", "debug.sethook()", "coroutine.yield()"])?
            .to_owned(),
        _ => {
            let levels = input.int_in_range(0..=3)?;
            format!("(function(...) {} end)(...)", statement(input, levels)?)
        }
    })
}

/// Texts that are some seconds in one call that the engine cannot interrupt, with the name of the function.
#[must_use]
pub fn slow_texts() -> [(&'static str, &'static str); 3] {
    [
        ("(string.find(string.rep('a', 300), string.rep('a*', 3) .. 'b'))", "string.find"),
        (
            "#table.concat(table.move({'x'}, 1, 1, 2, {}), '') + #tostring(table.move({}, 1, 160000000, 2))",
            "table.move",
        ),
        ("saved.pcall(saved.match, string.rep('a', 300), string.rep('a*', 3) .. 'b')", "string.match"),
    ]
}
