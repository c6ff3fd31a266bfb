//! Whether a launcher started this program, by what it puts into the environment.

/// Variables that launchers give the number of processes in.
const SIZES: [&str; 3] = ["OMPI_COMM_WORLD_SIZE", "PMI_SIZE", "MPI_LOCALNRANKS"];

/// Variables that launchers give the number of processes on this machine in.
const SIZES_HERE: [&str; 2] = ["OMPI_COMM_WORLD_LOCAL_SIZE", "MPI_LOCALNRANKS"];

/// Variables that launchers give the number of this process in.
const RANKS: [&str; 3] = ["OMPI_COMM_WORLD_RANK", "PMI_RANK", PMIX];

/// The number of this process under a launcher that gives no number of processes. The step of a batch system that started it gives that.
const PMIX: &str = "PMIX_RANK";

/// The number of processes that a launcher started together with this one, 1 without a launcher.
pub fn launched_processes() -> usize {
    processes(own)
}

/// The number of this process among them, from 0.
pub fn launched_as() -> usize {
    number(&RANKS, own).unwrap_or(0)
}

/// The number of those on this machine.
pub fn launched_here() -> usize {
    here(own)
}

fn own(name: &str) -> Option<String> {
    std::env::var(name).ok()
}

fn processes(variable: impl Fn(&str) -> Option<String>) -> usize {
    // A batch job itself has a number of tasks too, though it is one process.
    let of_step = || variable(PMIX).and_then(|_| number(&["SLURM_STEP_NUM_TASKS"], &variable));
    number(&SIZES, &variable).or_else(of_step).unwrap_or(1).max(1)
}

fn here(variable: impl Fn(&str) -> Option<String>) -> usize {
    let of_step = || {
        variable(PMIX)?;
        let node = number(&["SLURM_NODEID"], &variable)?;
        tasks_by_node(&variable("SLURM_STEP_TASKS_PER_NODE")?).nth(node)?
    };
    number(&SIZES_HERE, &variable).or_else(of_step).unwrap_or(1).max(1)
}

fn number(names: &[&str], variable: impl Fn(&str) -> Option<String>) -> Option<usize> {
    names.iter().find_map(|name| variable(name)?.parse().ok())
}

/// The tasks of each node, written as `4(x2),1` for 4, 4 and 1.
fn tasks_by_node(written: &str) -> impl Iterator<Item = Option<usize>> {
    written.split(',').flat_map(|group| {
        let (tasks, times) = group.split_once("(x").unwrap_or((group, "1"));
        let times = times.trim_end_matches(')').parse().unwrap_or(1);
        std::iter::repeat_n(tasks.parse().ok(), times)
    })
}

#[cfg(test)]
mod tests {
    use super::{RANKS, here, number, processes};

    /// What is found in an environment with these variables: processes, those on this machine, and the number of this one.
    fn found(variables: &[(&str, &str)]) -> (usize, usize, Option<usize>) {
        let variable = |asked: &str| {
            variables.iter().find(|(name, _)| *name == asked).map(|(_, value)| (*value).to_owned())
        };
        (processes(variable), here(variable), number(&RANKS, variable))
    }

    #[test]
    fn the_launcher_says_how_many_there_are() {
        assert_eq!(found(&[("HOME", "3")]), (1, 1, None));
        assert_eq!(found(&[("PMI_SIZE", "2"), ("PMI_RANK", "1")]), (2, 1, Some(1)));
        assert_eq!(found(&[("PMI_SIZE", "many")]), (1, 1, None));
        assert_eq!(
            found(&[
                ("OMPI_COMM_WORLD_SIZE", "4"),
                ("OMPI_COMM_WORLD_LOCAL_SIZE", "2"),
                ("OMPI_COMM_WORLD_RANK", "3"),
                ("PMIX_RANK", "3"),
            ]),
            (4, 2, Some(3))
        );
    }

    #[test]
    fn a_step_of_a_batch_system_says_it_too() {
        let step = [("SLURM_STEP_NUM_TASKS", "9"), ("SLURM_STEP_TASKS_PER_NODE", "4(x2),1")];
        let on = |node| [&step[..], &[("PMIX_RANK", "5"), ("SLURM_NODEID", node)]].concat();
        assert_eq!(found(&on("0")), (9, 4, Some(5)));
        assert_eq!(found(&on("1")), (9, 4, Some(5)));
        assert_eq!(found(&on("2")), (9, 1, Some(5)));
        assert_eq!(found(&on("3")), (9, 1, Some(5)));
        // The script of a job is one process, however many tasks the job has.
        assert_eq!(found(&[&step[..], &[("SLURM_NODEID", "0")]].concat()), (1, 1, None));
    }
}
