//! Any text as a recipe: it is read or refused in one line, and what is read is written the same.
#![no_main]

use std::path::Path;

use bothros_recipe::Recipe;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    match Recipe::parse(text, Path::new("/nowhere")) {
        Ok(recipe) => assert_eq!(recipe.version, 1),
        Err(error) => assert!(!error.to_string().contains('\n') && error.exit_status() == 2),
    }
});
