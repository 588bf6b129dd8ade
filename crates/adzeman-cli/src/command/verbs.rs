//! The commands, as `help` shows them.

/// What a command is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Topic {
    Stop,
    Go,
    Look,
    Change,
    Session,
}

/// All of them, as `help` lists them.
pub(crate) const TOPICS: [Topic; 5] = [Topic::Stop, Topic::Go, Topic::Look, Topic::Change, Topic::Session];

impl Topic {
    pub(crate) fn title(self) -> &'static str {
        match self {
            Self::Stop => "where to stop",
            Self::Go => "going on",
            Self::Look => "looking",
            Self::Change => "changing",
            Self::Session => "the session",
        }
    }
}

/// A command: the source of `help`.
pub(crate) struct Verb {
    pub(crate) name: &'static str,
    pub(crate) topic: Topic,
    /// How it is used.
    pub(crate) form: &'static str,
    pub(crate) what: &'static str,
    /// On the demo host.
    pub(crate) examples: [&'static str; 2],
}

const fn verb(
    topic: Topic,
    name: &'static str,
    form: &'static str,
    what: &'static str,
    examples: [&'static str; 2],
) -> Verb {
    Verb { name, topic, form, what, examples }
}

/// All commands.
pub(crate) const VERBS: [Verb; 37] = [
    verb(
        Topic::Stop,
        "break",
        "break at FILE:LINE | in FUNCTION | on EVENT [at boundary | over TIME] | on [every] error [containing TEXT] | on change [of type] NAME | on write NAME | on read NAME\n    [when CONDITION] [for SUBJECT] [after N] [every N] [once] [until BREAKPOINT] [as NAME] [off]\n    [say \"TEXT {EXPRESSION}\" | run STATEMENT | ring]",
        "stop there, or do something there and go on",
        [
            "break at lock.lua:33 when difference > 1 for lock.upper once",
            "break on record.before_save say \"{event.subject} is saved\"",
        ],
    ),
    verb(
        Topic::Stop,
        "breaks",
        "breaks [on | off]",
        "what is set, where it bound, how often it was hit; or arm, disarm all of it",
        ["breaks", "breaks off"],
    ),
    verb(
        Topic::Stop,
        "enable",
        "enable BREAKPOINT | all",
        "let a breakpoint do what it is there for",
        ["enable 2", "enable all"],
    ),
    verb(
        Topic::Stop,
        "disable",
        "disable BREAKPOINT | all",
        "keep a breakpoint, but let it do nothing",
        ["disable 2", "disable long boats"],
    ),
    verb(
        Topic::Stop,
        "remove",
        "remove BREAKPOINT | all | watch N | watch all | monitor N | monitor all",
        "remove a breakpoint, a watch or a monitor, or all of them",
        ["remove 2", "remove watch 1"],
    ),
    verb(
        Topic::Stop,
        "keep",
        "keep BREAKPOINT | all | watches",
        "put a breakpoint, or all watches, into the project file, adzeman.toml, for the next session",
        ["keep 1", "keep watches"],
    ),
    verb(
        Topic::Go,
        "go",
        "go [over | into | out | line N [in FILE] | next [EVENT] | N EVENT | from line N | again]",
        "run to the next stop, make a step, run to a line or an event, go on from another line of this function without what lies between, or have the event delivered again",
        ["go 10 frame.update", "go from line 31"],
    ),
    verb(Topic::Go, "over", "over", "to the next line of this function", ["over", "go over"]),
    verb(Topic::Go, "into", "into", "to the next line, also in a function that is called", ["into", "go into"]),
    verb(Topic::Go, "out", "out", "to the next line of the caller", ["out", "go out"]),
    verb(
        Topic::Go,
        "run",
        "run CALL",
        "call a function of the script, with breakpoints in it",
        ["run update(1)", "run fare(12)"],
    ),
    verb(
        Topic::Look,
        "look",
        "look [stack | locals | captured | varargs | globals | built-ins | event | host | source [--generated | --before] | contexts | events | break BREAKPOINT | watch N | trail N | figure NAME | running [CONTEXT]]\n    look sources [TEXT]\n    look EXPRESSION [as table | shape | text | bytes | hex | octal | binary]",
        "look at something; alone, at the stop. 'it' stands for the last value looked at, 'it2' for the one before",
        ["look host.locks.upper", "look boats as table"],
    ),
    verb(Topic::Look, "more", "more", "the next page of what was listed last", ["more", "look stack"]),
    verb(
        Topic::Look,
        "watch",
        "watch EXPRESSION [in FUNCTION | in FILE]",
        "show it at every stop; one that uses variables of a function belongs to that function",
        ["watch lock.level - event.level", "watch difference in level_with"],
    ),
    verb(Topic::Look, "watches", "watches", "what is watched, and what it is now", ["watches", "look watch 1"]),
    verb(
        Topic::Look,
        "monitor",
        "monitor EXPRESSION [every TIME | on EVENT [every N]] [for N]",
        "go on, and show it while the host runs: every 2s, 200ms, or at events; 'for' so many samples",
        ["monitor host.weather.wind every 2s", "monitor event.dt on frame.update every 30 for 5"],
    ),
    verb(Topic::Look, "monitors", "monitors", "show again what was monitored", ["monitors", "remove monitor 1"]),
    verb(
        Topic::Look,
        "trail",
        "trail [last N] [EVENT] [failed | refused] [for SUBJECT] [when CONDITION]\n    trail slowest | counts [EVENT ...]\n    trail to FILE.svg | FILE.jsonl [EVENT ...]\n    trail again N",
        "the last events: when, what they were about, what they took and what came of them; as sums, as a picture, as lines of JSON; or have one delivered once more",
        ["trail record.before_save for passage *", "trail when event.cost > 5ms and event.level < 2"],
    ),
    verb(
        Topic::Look,
        "figures",
        "figures [every TIME [for N]] [to FILE.svg]",
        "what the host does and takes, by kinds of events and by contexts, the numbers of its author, and the process last; 'look figure NAME' has the course of one",
        ["figures", "figures to day.svg"],
    ),
    verb(
        Topic::Look,
        "profile",
        "profile [TIME] [in CONTEXT] [during EVENT] [to FILE.svg | FILE.folded]",
        "where time goes: functions by the time of their own and in all, from samples of the stack, for at most 1% of the time; as a flame graph, or as folded stacks",
        ["profile 2s during frame.update", "profile 5s to day.svg"],
    ),
    verb(
        Topic::Look,
        "census",
        "census [CONTEXT] [since N]",
        "how many values of each kind a context holds, and what they take; since an earlier one: what came and stayed, most growth first",
        ["census ledger", "census since 1"],
    ),
    verb(
        Topic::Look,
        "holders",
        "holders of EXPRESSION [to FILE.dot]",
        "at a stop: what keeps a value alive, as paths of names and keys, the shortest first",
        ["holders of lock", "holders of lock to lock.dot"],
    ),
    verb(
        Topic::Look,
        "plan",
        "plan [host.PART] [to FILE.svg] [every TIME [for N]]",
        "where host objects lie, and what overlaps or lies outside; as a map in a file, and again after each TIME",
        ["plan host.boats", "plan host.boats to boats.svg"],
    ),
    verb(
        Topic::Change,
        "let",
        "let TARGET = EXPRESSION [for now]",
        "change a variable, a field or part of the host; for now: until it is undone, or you leave",
        ["let margin = 0.02", "let host.weather.rain = 12 for now"],
    ),
    verb(
        Topic::Change,
        "reload",
        "reload FILE [--partly] [--original] [--run]\n    reload on save [off]",
        "give the functions of a script the bodies that its file has now, in place; all that they have captured stays. --partly: those that can be; --original: the text that was loaded; --run: run what stands outside of functions, too. on save: whenever you save one",
        ["reload ledger.lua", "reload ledger.lua --original"],
    ),
    verb(
        Topic::Change,
        "edit",
        "edit [FILE[:LINE]]",
        "open your editor ($EDITOR) there, or where you look, and reload what you save",
        ["edit", "edit ledger.lua:25"],
    ),
    verb(
        Topic::Change,
        "undo",
        "undo [N | all] [anyway]",
        "give back what was set for now: the last one, one, or all; anyway: also what is another value by now",
        ["undo", "undo 2 anyway"],
    ),
    verb(
        Topic::Change,
        "changes",
        "changes",
        "list what was changed, with what it was before and how far from usual it is",
        ["changes", "undo all"],
    ),
    verb(
        Topic::Session,
        "use",
        "use frame NUMBER | context NAME",
        "look from another frame or into another context",
        ["use frame 1", "use context lock.upper"],
    ),
    verb(
        Topic::Session,
        "library",
        "library [PATH... | none]",
        "sources and folders (with a slash at the end) that 'into' passes over",
        ["library vendor/", "library none"],
    ),
    verb(
        Topic::Change,
        "limit",
        "limit [TIME | conditions TIME | memory SIZE]",
        "how much an evaluation may take: 5s; 200ms for conditions, messages, statements and monitors; 256M",
        ["limit 20s", "limit conditions 500ms"],
    ),
    verb(Topic::Go, "pause", "pause", "stop at the next line that runs", ["pause", "go"]),
    verb(
        Topic::Session,
        "take",
        "take over",
        "take control from whoever has it; one client controls, any number look",
        ["take over", "look contexts"],
    ),
    verb(
        Topic::Session,
        "restart",
        "restart",
        "end the host that was started with 'adzeman start', start it again and set everything again",
        ["restart", "end"],
    ),
    verb(Topic::Session, "end", "end", "end the host that was started with 'adzeman start'", ["end", "leave"]),
    verb(Topic::Session, "leave", "leave", "detach; the host runs on", ["leave", "end"]),
    verb(
        Topic::Session,
        "help",
        "help [COMMAND]",
        "the commands by what they are for, or one of them with examples",
        ["help", "help break"],
    ),
];

/// What commands that other tools share are called here.
pub(super) const ELSEWHERE: [(&str, &str); 18] = [
    ("step", "'into' makes a step into what is called, 'over' one past it"),
    ("next", "'over' goes to the next line of this function"),
    ("finish", "'out' goes to the next line of the caller"),
    ("continue", "'go' lets the script run on"),
    ("resume", "'go' lets the script run on"),
    ("stop", "'pause' stops at the next line that runs"),
    ("quit", "'leave' detaches, and the host runs on"),
    ("exit", "'leave' detaches, and the host runs on"),
    ("detach", "'leave' detaches, and the host runs on"),
    ("print", "'look EXPRESSION' shows a value"),
    ("eval", "'look EXPRESSION' shows a value, 'run STATEMENT' runs a statement"),
    ("set", "'let TARGET = EXPRESSION' changes a value"),
    ("delete", "'remove BREAKPOINT' removes a breakpoint"),
    ("backtrace", "'look stack' shows the call stack"),
    ("stack", "'look stack' shows the call stack"),
    ("list", "'look source' shows the text around the line"),
    ("frame", "'use frame NUMBER' looks from another frame"),
    ("thread", "'use context NAME' looks into another context"),
];
