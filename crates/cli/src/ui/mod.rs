//! What the user sees beside results: progress, prompts, and how names, sizes and tables are written.

mod control_keys;
pub mod escaped_name;
pub mod pager;
pub mod paint;
pub mod progress;
pub mod prompt;
pub mod section;
pub mod stopwatch;
pub mod suggestion;
pub mod table;
pub mod text;
