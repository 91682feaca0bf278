//! The built program, as its users run it: in folders of its own, against servers on loopback.

mod api;
#[cfg(feature = "other-programs")]
mod browser;
mod control;
mod conversations;
mod cookies;
mod credentials;
mod demo;
mod display;
mod docs;
mod editor;
#[cfg(feature = "other-programs")]
mod export;
mod expressions;
mod failures;
mod faulty_servers;
mod fuzz;
#[cfg(feature = "other-programs")]
mod guarantees;
mod import;
mod limits;
mod lint;
mod log;
mod mistakes;
#[cfg(feature = "other-programs")]
mod neovim;
mod oauth;
mod output;
mod prompts;
mod prove;
mod replay;
mod reports;
mod requests;
mod run;
mod schemas;
mod secret_stores;
mod secrets;
mod send;
#[cfg(feature = "other-programs")]
mod shells;
#[cfg(feature = "other-programs")]
mod sign_in;
mod streams;
mod support;
mod terminal;
mod tray;
mod trust;
mod values;
mod words;
