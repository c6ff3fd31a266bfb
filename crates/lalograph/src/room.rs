//! Whether there is room for what a command is about to do: checked before it begins, not in the middle.

use std::fs;

use crate::failure::Failure;
use crate::output::number::bytes;

/// Refuses work that needs more memory than there is. `what` takes it; `remedy` names what to lower.
pub(crate) fn check(needed: u64, what: &str, remedy: &str) -> Result<(), Failure> {
    match memory() {
        Some(memory) if needed > memory => Err(Failure::with_remedy(
            format!("{what} needs {} of memory, and {} are free", bytes(needed), bytes(memory)),
            remedy,
        )),
        _ => Ok(()),
    }
}

/// Bytes of memory that this process may have: those of the machine, of its group, or of its limit, whichever are the fewest. None where
/// nobody says.
fn memory() -> Option<u64> {
    let machine = fs::read_to_string("/proc/meminfo").ok().and_then(|text| of_machine(&text));
    let group =
        fs::read_to_string("/sys/fs/cgroup/memory.max").ok().and_then(|text| text.trim().parse().ok());
    let limit = fs::read_to_string("/proc/self/limits").ok().and_then(|text| of_limits(&text));
    [machine, group, limit].into_iter().flatten().min()
}

fn of_machine(meminfo: &str) -> Option<u64> {
    let line = meminfo.lines().find_map(|line| line.strip_prefix("MemTotal:"))?;
    let kilobytes: u64 = line.trim().strip_suffix("kB")?.trim().parse().ok()?;
    kilobytes.checked_mul(1024)
}

fn of_limits(limits: &str) -> Option<u64> {
    let line = limits.lines().find_map(|line| line.strip_prefix("Max address space"))?;
    line.split_whitespace().next()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::{check, of_limits, of_machine};

    #[test]
    fn system_errors_are_recognised() {
        assert_eq!(of_machine("MemTotal:       24689152 kB\nMemFree: 1 kB\n"), Some(24_689_152 * 1024));
        assert_eq!(of_machine("MemFree: 1 kB\n"), None);
        let limits = "Limit                     Soft Limit           Hard Limit           Units\n\
                      Max address space         2000000              unlimited            bytes\n";
        assert_eq!(of_limits(limits), Some(2_000_000));
        assert_eq!(of_limits(&limits.replace("2000000 ", "unlimited ")), None);
    }

    #[test]
    fn impossible_memory_is_refused_and_little_is_not() {
        check(1, "a byte", "").unwrap();
        let refused = check(u64::MAX, "everything", "ask for less");
        assert!(refused.is_err_and(|failure| failure.words().starts_with("everything needs")));
    }
}
