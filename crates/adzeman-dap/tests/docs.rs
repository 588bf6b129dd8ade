//! The tables of `docs/protocol.md` are those of the code.

use adzeman_dap::{Command, ErrorCode, Phase, Role};

const DOCS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/protocol.md");

fn requests() -> String {
    let phases = [
        (Phase::Connected, "once connected"),
        (Phase::Greeted, "after `initialize`"),
        (Phase::Trusted, "once it is known to be let in"),
        (Phase::Attached, "once attached"),
    ];
    let mut table = "| from when on | who only observes | who controls, too |\n| --- | --- | --- |\n".to_owned();
    for (phase, title) in phases {
        let of = |role: Role| {
            let named = Command::ALL.iter().filter(|command| command.phase() == phase && command.role() == role);
            named.map(|command| format!("`{}`", command.name())).collect::<Vec<_>>().join(", ")
        };
        table += &format!("| {title} | {} | {} |\n", of(Role::Observe), of(Role::Control));
    }
    table
}

fn codes() -> String {
    let rows = ErrorCode::ALL.iter().map(|code| format!("| {} | {} |\n", code.id(), code.meaning()));
    "| `id` | meaning |\n| --- | --- |\n".to_owned() + &rows.collect::<String>()
}

#[test]
fn the_tables_of_the_docs_are_those_of_the_code() {
    let docs = std::fs::read_to_string(DOCS).unwrap();
    for table in [requests(), codes()] {
        assert!(docs.contains(&table), "put this table into docs/protocol.md:\n{table}");
    }
}
