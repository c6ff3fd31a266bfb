//! Whether a launcher started this program, by what it puts into the environment.

/// Variables that launchers give the number of processes in.
const SIZES: [&str; 3] = ["OMPI_COMM_WORLD_SIZE", "PMI_SIZE", "MPI_LOCALNRANKS"];

/// Variables that launchers give the number of processes on this machine in.
const SIZES_HERE: [&str; 2] = ["OMPI_COMM_WORLD_LOCAL_SIZE", "MPI_LOCALNRANKS"];

/// The number of processes that a launcher started together with this one, 1 without a launcher.
pub fn launched_processes() -> usize {
    processes(&SIZES, |name| std::env::var(name).ok())
}

/// Variables that launchers give the number of this process in.
const RANKS: [&str; 2] = ["OMPI_COMM_WORLD_RANK", "PMI_RANK"];

/// The number of this process among them, from 0.
pub fn launched_as() -> usize {
    number(&RANKS, |name| std::env::var(name).ok()).unwrap_or(0)
}

/// The number of those on this machine.
pub fn launched_here() -> usize {
    processes(&SIZES_HERE, |name| std::env::var(name).ok())
}

fn processes(names: &[&str], variable: impl Fn(&str) -> Option<String>) -> usize {
    number(names, variable).unwrap_or(1).max(1)
}

fn number(names: &[&str], variable: impl Fn(&str) -> Option<String>) -> Option<usize> {
    names.iter().find_map(|name| variable(name)?.parse().ok())
}

#[cfg(test)]
mod tests {
    use super::{SIZES, SIZES_HERE, processes};

    #[test]
    fn the_launcher_says_how_many_there_are() {
        let of = |name: &'static str, value: &'static str| {
            processes(&SIZES, move |asked| (asked == name).then(|| value.to_owned()))
        };
        assert_eq!(of("OMPI_COMM_WORLD_SIZE", "4"), 4);
        assert_eq!(of("PMI_SIZE", "2"), 2);
        assert_eq!(of("PMI_SIZE", "many"), 1);
        assert_eq!(of("HOME", "3"), 1);
        let here = |asked: &str| (asked == "OMPI_COMM_WORLD_LOCAL_SIZE").then(|| "2".to_owned());
        assert_eq!((processes(&SIZES, here), processes(&SIZES_HERE, here)), (1, 2));
    }
}
