//! Programs that know nothing of Adzeman, with a script that loads the module: the plain interpreters, programs of the system that run
//! scripts (`tshark`, `haproxy`, `mpv`), and programs in C that embed Lua in ways that the interpreters do not.
//!
//! They need those, the libraries of the system (`liblua5.2-dev` and so on), a C compiler, and the command, which is built before
//! (`cargo build -p adzeman-cli`), or is the one of `ADZEMAN_COMMAND`. What is not there is left out, by name; nothing may be with
//! `ADZEMAN_ALL_HOSTS=1`.

mod embedding;
mod guides;
mod interpreters;
mod programs;
mod user;
