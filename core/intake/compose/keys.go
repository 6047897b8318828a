package compose

// fileKeys are the keys of a compose file (compose specification, "Compose file").
var fileKeys = []string{
	"configs", "include", "jobs", "models", "name", "networks", "secrets", "services", "version", "volumes",
}

// serviceKeys are the keys of a service (compose specification, "Services"). A test compares them with those
// of the specification's own library.
var serviceKeys = []string{
	"annotations", "attach", "blkio_config", "build", "cap_add", "cap_drop", "cgroup", "cgroup_parent", "command",
	"configs", "container_name", "cpu_count", "cpu_percent", "cpu_period", "cpu_quota", "cpu_rt_period",
	"cpu_rt_runtime", "cpu_shares", "cpus", "cpuset", "credential_spec", "depends_on", "deploy", "develop",
	"device_cgroup_rules", "devices", "dns", "dns_opt", "dns_search", "domainname", "entrypoint", "env_file",
	"environment", "expose", "extends", "external_links", "extra_hosts", "gpus", "group_add", "healthcheck",
	"hostname", "image", "init", "ipc", "isolation", "label_file", "labels", "links", "logging", "mac_address",
	"mem_limit", "mem_reservation", "mem_swappiness", "memswap_limit", "models", "network_mode", "networks",
	"oom_kill_disable", "oom_score_adj", "pid", "pids_limit", "platform", "ports", "post_start", "pre_start",
	"pre_stop", "privileged", "profiles", "provider", "pull_policy", "pull_refresh_after", "read_only", "restart",
	"runtime", "scale", "secrets", "security_opt", "shm_size", "stdin_open", "stop_grace_period", "stop_signal",
	"storage_opt", "sysctls", "tmpfs", "tty", "ulimits", "umask", "use_api_socket", "user", "userns_mode", "uts",
	"volumes", "volumes_from", "working_dir",
}
