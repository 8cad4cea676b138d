//! The built program, driven on files in temporary folders. One program of tests: linked once, and what waits in one file of
//! tests leaves the processors to another.

mod support;

mod arrivals;
mod batches;
mod board_web;
mod browser;
mod commands;
mod control;
mod convert;
mod everywhere;
mod faults;
mod fetch;
mod house_plan;
mod inspect;
mod items;
mod keeping;
mod kills;
mod listed;
mod notices;
mod nursery;
mod offload;
mod orders_of_the_house;
mod places;
mod presets;
mod publish;
mod rules;
mod runs;
mod services;
mod trust;
mod words;
