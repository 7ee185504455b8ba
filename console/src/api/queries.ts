// What pages read, each under the topic whose events make it be read again.
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { all, api, got, isAway, type Schemas } from "./client";

const limit = 1000;

/** Who is signed in. While the service does not answer it is asked again and again. */
export const useSession = () =>
  useQuery({ queryKey: ["session"], queryFn: () => got(api.GET("/api/v1/session")), retry: (_, error) => isAway(error), retryDelay: 2000, staleTime: Infinity });

export const useSetup = () => useQuery({ queryKey: ["setup"], queryFn: () => got(api.GET("/api/v1/setup")) });

export const useAbout = () => useQuery({ queryKey: ["about"], queryFn: () => got(api.GET("/api/v1/about")), staleTime: Infinity });

export const useSites = () =>
  useQuery({ queryKey: ["site", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/sites", { params: { query: { cursor, limit } } }))) });

export const useLegs = () =>
  useQuery({ queryKey: ["site", "legs"], queryFn: async () => (await got(api.GET("/api/v1/legs"))).legs });

export const useServers = () =>
  useQuery({ queryKey: ["server", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/servers", { params: { query: { cursor, limit } } }))) });

/** Servers that people can be led to, and that have accounts: no hosts of movers. */
export const useFileServers = () => {
  const servers = useServers();
  return { ...servers, data: servers.data?.filter((v) => v.kind === "smb") };
};

export const useServer = (server: string) =>
  useQuery({ queryKey: ["server", server], queryFn: () => got(api.GET("/api/v1/servers/{server}", { params: { path: { server } } })) });

export const useShares = (server = "") =>
  useQuery({ queryKey: ["share", server], queryFn: async () => (await got(api.GET("/api/v1/shares", { params: { query: { server } } }))).shares });

export const useShare = (server: string, share: string | undefined) =>
  useQuery({
    queryKey: ["share", server, share],
    enabled: share !== undefined,
    queryFn: () => got(api.GET("/api/v1/servers/{server}/shares/{share}", { params: { path: { server, share: share ?? "" } } })),
  });

/** Folders of buckets whose files are sealed. */
export const useSealedFolders = () => useQuery({ queryKey: ["server", "sealed"], queryFn: async () => (await got(api.GET("/api/v1/sealed-folders"))).items });

/** Volumes whose deduplication was estimated; read again while one is. */
export const useEstimatedVolumes = () =>
  useQuery({ queryKey: ["run", "volumes"], queryFn: () => all((cursor) => got(api.GET("/api/v1/dedup/volumes", { params: { query: { cursor, limit } } }))) });

export const useEstimatedVolume = (volume: string) =>
  useQuery({ queryKey: ["run", "volume", volume], queryFn: () => got(api.GET("/api/v1/dedup/volumes/{volume}", { params: { path: { volume } } })) });

/** The latest proofs of a volume's estimate. */
export const useProofs = (volume: string) =>
  useQuery({
    queryKey: ["run", "proofs", volume],
    queryFn: async () => {
      const runs = (await got(api.GET("/api/v1/runs", { params: { query: { kind: "prove", limit: 100 } } }))).items.filter((r) => r.subject === volume);
      return Promise.all(runs.slice(0, 1).map((r) => got(api.GET("/api/v1/dedup/proofs/{run}", { params: { path: { run: r.id } } }))));
    },
  });

/** What an estimate found: once it has ended, that does not change. */
export const useEstimate = (run: number | undefined, ended: boolean) =>
  useQuery({ queryKey: [ended ? "volume" : "run", "estimate", run], enabled: run !== undefined, placeholderData: keepPreviousData, queryFn: () => got(api.GET("/api/v1/dedup/estimates/{run}", { params: { path: { run: run ?? 0 } } })) });

export const useStore = (run: number) =>
  useQuery({ queryKey: ["run", "store", run], queryFn: () => got(api.GET("/api/v1/dedup/stores/{run}", { params: { path: { run } } })) });

export const useStoreChunks = (run: number) =>
  useQuery({ queryKey: ["run", "store chunks", run], queryFn: async () => (await got(api.GET("/api/v1/dedup/stores/{run}/chunks", { params: { path: { run } } }))).items });

export const useEstimateComparison = (run: number, other: number) =>
  useQuery({ queryKey: ["volume", "compared", run, other], queryFn: () => got(api.GET("/api/v1/dedup/estimates/{run}/since/{earlier}", { params: { path: { run: other, earlier: run } } })) });

export const useWhatIf = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "what-if", run], enabled: run !== undefined, placeholderData: keepPreviousData, queryFn: () => got(api.GET("/api/v1/dedup/what-ifs/{run}", { params: { path: { run: run ?? 0 } } })) });

export const usePool = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "pool", run], enabled: run !== undefined, queryFn: () => got(api.GET("/api/v1/dedup/pools/{run}", { params: { path: { run: run ?? 0 } } })) });

export const useNamespaces = () =>
  useQuery({ queryKey: ["namespace", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/namespaces", { params: { query: { cursor, limit } } }))) });

export const useEntries = (namespace: string) =>
  useQuery({
    queryKey: ["namespace", namespace, "entries"],
    queryFn: () => all((cursor) => got(api.GET("/api/v1/namespaces/{namespace}/entries", { params: { path: { namespace }, query: { cursor, limit: 10000 } } }))),
  });

/** The signposts of every namespace that need somebody. */
export const useInNeed = (namespaces: string[] | undefined) =>
  useQuery({
    queryKey: ["namespace", "in need", namespaces],
    enabled: namespaces !== undefined,
    queryFn: async () => {
      const lists = (namespaces ?? []).map(async (namespace) => ({
        namespace,
        entries: (await got(api.GET("/api/v1/namespaces/{namespace}/entries", { params: { path: { namespace }, query: { inNeed: true, limit: 200 } } }))).items,
      }));
      return Promise.all(lists);
    },
  });

export const useDirections = (path: string, from: string, as: string, through: "gateway" | "front") =>
  useQuery({
    queryKey: ["namespace", "directions", path, from, as, through],
    enabled: path !== "",
    retry: false,
    queryFn: () => got(api.GET("/api/v1/directions", { params: { query: { path, from: from || undefined, as: as || undefined, rights: as ? true : undefined, through } } })),
  });

export const useUsers = () =>
  useQuery({ queryKey: ["user", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/users", { params: { query: { cursor, limit } } }))) });

export const useCredentials = (everybody: boolean) =>
  useQuery({ queryKey: ["user", "credentials", everybody], queryFn: async () => (await all((cursor) => got(api.GET("/api/v1/credentials", { params: { query: { cursor, limit: 500, all: everybody } } })))).sort((a, b) => b.used.localeCompare(a.used)) });

export const useLocks = () =>
  useQuery({ queryKey: ["lock"], queryFn: () => all((cursor) => got(api.GET("/api/v1/locks", { params: { query: { cursor, limit: 500 } } }))) });

export const useChanges = (max: number) =>
  useQuery({ queryKey: ["change", max], queryFn: async () => (await got(api.GET("/api/v1/changes", { params: { query: { limit: max } } }))).items });

export const useShareNow = (server: string, share: string) =>
  useQuery({ queryKey: ["share", server, share, "now"], queryFn: () => got(api.GET("/api/v1/servers/{server}/shares/{share}/settings", { params: { path: { server, share } } })) });

export const useVolumes = (server: string) =>
  useQuery({ queryKey: ["share", server, "volumes"], queryFn: async () => (await got(api.GET("/api/v1/servers/{server}/volumes", { params: { path: { server } } }))).volumes });

export const useServerUse = (server: string) =>
  useQuery({ queryKey: ["server", server, "use"], queryFn: () => got(api.GET("/api/v1/servers/{server}/use", { params: { path: { server } } })) });

export const useAccounts = (of: { server?: string; domain?: string }, filter = "") =>
  useQuery({ queryKey: ["account", of.server, of.domain, filter], queryFn: async () => (await got(api.GET("/api/v1/accounts", { params: { query: { ...of, filter: filter || undefined } } }))).accounts });

export const useSurveys = (server: string, share: string) =>
  useQuery({ queryKey: ["run", "surveys", server, share], queryFn: async () => (await got(api.GET("/api/v1/surveys", { params: { query: { server, share, limit: 20 } } }))).items });

export const useSurvey = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "survey", run], enabled: run !== undefined, placeholderData: (before) => before, queryFn: () => got(api.GET("/api/v1/surveys/{run}", { params: { path: { run: run ?? 0 } } })) });

export const useGrowth = (run: number | undefined, earlier: number | undefined) =>
  useQuery({
    queryKey: ["run", "growth", run, earlier],
    enabled: run !== undefined && earlier !== undefined,
    queryFn: () => got(api.GET("/api/v1/surveys/{run}/since/{earlier}", { params: { path: { run: run ?? 0, earlier: earlier ?? 0 } } })),
  });

export const useRuns = () =>
  useQuery({ queryKey: ["run", "list"], queryFn: async () => (await got(api.GET("/api/v1/runs", { params: { query: { limit: 200 } } }))).items });

export const useFolder = (path: string, as: string) =>
  useQuery({ queryKey: ["rights", "folder", path, as], retry: false, placeholderData: (before, query) => (query?.queryKey[2] === path ? before : undefined), queryFn: () => got(api.GET("/api/v1/browse", { params: { query: { path, as: as || undefined } } })) });

export const useRights = (path: string) =>
  useQuery({ queryKey: ["rights", "of", path], retry: false, queryFn: () => got(api.GET("/api/v1/rights", { params: { query: { path } } })) });

export const useRightsAs = (path: string, account: string) =>
  useQuery({ queryKey: ["rights", "as", path, account], enabled: account !== "", retry: false, queryFn: () => got(api.GET("/api/v1/rights/as", { params: { query: { path, account } } })) });

export const useWhoCan = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "who-can", run], enabled: run !== undefined, retry: false, queryFn: () => got(api.GET("/api/v1/rights/who-can/{run}", { params: { path: { run: run ?? 0 } } })) });

export const useComparison = (first: string, second: string) =>
  useQuery({ queryKey: ["rights", "compare", first, second], enabled: second !== "", retry: false, queryFn: () => got(api.GET("/api/v1/rights/compare", { params: { query: { first, second } } })) });

export const useComparisonRun = (run: number) =>
  useQuery({ queryKey: ["run", "comparison", run], retry: false, queryFn: () => got(api.GET("/api/v1/rights/comparisons/{run}", { params: { path: { run } } })) });

/** The differences of a comparison, part by part. */
export const useDifferences = (run: number, filter: string) =>
  useInfiniteQuery({
    queryKey: ["run", "comparison", run, "differences", filter],
    initialPageParam: "",
    queryFn: ({ pageParam }) => got(api.GET("/api/v1/rights/comparisons/{run}/differences", { params: { path: { run }, query: { cursor: pageParam || undefined, filter: filter || undefined, limit: 200 } } })),
    getNextPageParam: (page) => page.next || undefined,
  });

export const useDirectories = () =>
  useQuery({ queryKey: ["account", "directories"], queryFn: async () => (await got(api.GET("/api/v1/directories"))).directories });

export const useRightsChange = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "rights", run], enabled: run !== undefined, queryFn: () => got(api.GET("/api/v1/rights/changes/{run}", { params: { path: { run: run ?? 0 } } })) });

export const useHealth = (namespace: string, entry: number) =>
  useQuery({ queryKey: ["namespace", namespace, "health", entry], queryFn: async () => (await got(api.GET("/api/v1/namespaces/{namespace}/entries/{entry}/health", { params: { path: { namespace, entry } } }))).spells });

export const useFlaws = (namespace: string, deep: boolean) =>
  useQuery({ queryKey: ["namespace", namespace, "flaws", deep], placeholderData: (before) => before, queryFn: () => got(api.GET("/api/v1/namespaces/{namespace}/lint", { params: { path: { namespace }, query: { deep } } })) });

/** The changes of a namespace, newest first, part by part. */
export const useHistory = (namespace: string) =>
  useInfiniteQuery({
    queryKey: ["namespace", namespace, "history"],
    initialPageParam: "",
    queryFn: ({ pageParam }) => got(api.GET("/api/v1/namespaces/{namespace}/history", { params: { path: { namespace }, query: { cursor: pageParam || undefined, limit: 30 } } })),
    getNextPageParam: (page) => page.next || undefined,
  });

/** The fronts of a namespace. */
export const useFronts = (namespace = "") =>
  useQuery({ queryKey: ["front", namespace], queryFn: () => got(api.GET("/api/v1/fronts", { params: { query: { namespace: namespace || undefined } } })) });

export const useFrontConnections = (server: string, share: string) =>
  useQuery({ queryKey: ["front", "connected", server, share], retry: false, queryFn: async () => (await got(api.GET("/api/v1/fronts/{server}/{share}/connected", { params: { path: { server, share } } }))).connected });

export const useHandouts = (namespace: string) =>
  useQuery({ queryKey: ["namespace", namespace, "handouts"], queryFn: async () => (await got(api.GET("/api/v1/namespaces/{namespace}/handouts", { params: { path: { namespace } } }))).handouts });

export const useRun = (run: number) => useQuery({ queryKey: ["run", "one", run], retry: false, queryFn: () => got(api.GET("/api/v1/runs/{run}", { params: { path: { run } } })) });

export const useVerification = (run: number) =>
  useQuery({ queryKey: ["run", "verification", run], retry: false, queryFn: () => got(api.GET("/api/v1/verifications/{run}", { params: { path: { run } } })) });

export const useLens = (namespace: string, from: string, as: string, through: "gateway" | "front") =>
  useQuery({
    queryKey: ["namespace", namespace, "lens", from, as, through],
    enabled: from !== "" || as !== "",
    retry: false,
    queryFn: async () => (await got(api.GET("/api/v1/namespaces/{namespace}/lens", { params: { path: { namespace }, query: { from: from || undefined, as: as || undefined, through } } }))).seen,
  });

export const useReplicaSets = () =>
  useQuery({ queryKey: ["replica", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/replica-sets", { params: { query: { cursor, limit } } }))) });

export const useReplicaSet = (set: string) =>
  useQuery({ queryKey: ["replica", "one", set], retry: false, queryFn: () => got(api.GET("/api/v1/replica-sets/{set}", { params: { path: { set } } })) });

export const useMovers = () =>
  useQuery({ queryKey: ["server", "movers"], queryFn: async () => (await got(api.GET("/api/v1/movers"))).items });

export const useMoverUpdates = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "movers", run], enabled: run !== undefined, retry: false, queryFn: () => got(api.GET("/api/v1/mover-updates/{run}", { params: { path: { run: run ?? 0 } } })) });

export const useCloudSetups = () =>
  useQuery({ queryKey: ["cloud-setup", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/cloud-setups", { params: { query: { cursor, limit } } }))) });

export const useCloudSetup = (setup: string) =>
  useQuery({ queryKey: ["cloud-setup", "one", setup], retry: false, queryFn: () => got(api.GET("/api/v1/cloud-setups/{setup}", { params: { path: { setup } } })) });

export const useMigrations = () =>
  useQuery({ queryKey: ["run", "migration", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/migrations", { params: { query: { cursor, limit } } }))) });

/** A migration; its surveys are runs, whose progress is told. */
export const useMigration = (migration: string) =>
  useQuery({ queryKey: ["run", "migration", "one", migration], retry: false, queryFn: () => got(api.GET("/api/v1/migrations/{migration}", { params: { path: { migration } } })) });

/** The accounts in what the surveys of these numbers found. */
export const useMigrationAccounts = (migration: string, surveys: number[]) =>
  useQuery({ queryKey: ["migration-accounts", migration, ...surveys], retry: false, queryFn: async () => (await got(api.GET("/api/v1/migrations/{migration}/accounts", { params: { path: { migration } } }))).items });

export const useReplicaTroubles = (set: string) =>
  useQuery({ queryKey: ["replica", "troubles", set], queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/troubles", { params: { path: { set } } }))).items });

/** What waits in the backlog of a lane, as long as somebody looks. */
export const useWaiting = (set: string, from: string, to: string) =>
  useQuery({ queryKey: ["replica", "waiting", set, from, to], refetchInterval: 5000, queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/lanes/{from}/{to}/backlog", { params: { path: { set, from, to }, query: { limit: 1000 } } }))).items });

export const useAttic = (set: string) =>
  useQuery({ queryKey: ["replica", "attic", set], queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/attic", { params: { path: { set }, query: { limit: 500 } } }))).items });

export const useLaneHistory = (set: string, hours: number) =>
  useQuery({ queryKey: ["replica", "history", set, hours], queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/history", { params: { path: { set }, query: { hours } } }))).samples });

export const useReplicaPlan = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "plan", run], enabled: run !== undefined, retry: false, queryFn: () => got(api.GET("/api/v1/replica-plans/{run}", { params: { path: { run: run ?? 0 } } })) });

/** A calendar in both its forms; the service is the one that reads it. */
export const useCalendar = (text: string) =>
  useQuery({ queryKey: ["calendar", text], retry: false, staleTime: Infinity, queryFn: () => got(api.POST("/api/v1/calendars", { body: { text } })) });

export const useReplicaVerifications = (set: string) =>
  useQuery({ queryKey: ["run", "replica verifications", set], queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/verifications", { params: { path: { set } } }))).items });

export const useReplicaVerification = (run: number) =>
  useQuery({ queryKey: ["run", "replica verification", run], retry: false, queryFn: () => got(api.GET("/api/v1/replica-verifications/{run}", { params: { path: { run } } })) });

/** What a verification found, part by part. */
export const useVerifyFindings = (run: number, filter: string) =>
  useInfiniteQuery({
    queryKey: ["run", "replica verification", run, "findings", filter],
    initialPageParam: "",
    queryFn: ({ pageParam }) => got(api.GET("/api/v1/replica-verifications/{run}/findings", { params: { path: { run }, query: { cursor: pageParam || undefined, filter: filter || undefined, limit: 200 } } })),
    getNextPageParam: (page) => page.next || undefined,
  });

export const useProbes = (set: string) =>
  useQuery({ queryKey: ["run", "probes", set], queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/probes", { params: { path: { set } } }))).items });

export const useJobs = (subject: string) =>
  useQuery({ queryKey: ["job", "about", subject], queryFn: async () => (await got(api.GET("/api/v1/jobs", { params: { query: { subject } } }))).items });

export const useAtticComparison = (set: string, item: number) =>
  useQuery({ queryKey: ["replica", "attic comparison", set, item], retry: false, queryFn: () => got(api.GET("/api/v1/replica-sets/{set}/attic/{item}/comparison", { params: { path: { set, item } } })) });

export const useReplicaCreation = (run: number | undefined) =>
  useQuery({ queryKey: ["run", "creation", run], enabled: run !== undefined, retry: false, queryFn: () => got(api.GET("/api/v1/replica-creations/{run}", { params: { path: { run: run ?? 0 } } })) });

/** What follows from other settings; the change as text, so that it is asked again when it is another. */
export const useSettingsPreview = (set: string, change: string, enabled: boolean) =>
  useQuery({ queryKey: ["replica", "preview", set, change], enabled, retry: false, placeholderData: keepPreviousData, gcTime: 0, queryFn: () => got(api.POST("/api/v1/replica-sets/{set}/preview", { params: { path: { set } }, body: JSON.parse(change) as Schemas["SettingsChange"] })) });

export const useReplicaAccounts = (set: string) =>
  useQuery({ queryKey: ["replica", "accounts", set], retry: false, queryFn: async () => (await got(api.GET("/api/v1/replica-sets/{set}/accounts", { params: { path: { set } } }))).items });

export const useAccountMaps = () =>
  useQuery({ queryKey: ["account-map", "list"], queryFn: () => all((cursor) => got(api.GET("/api/v1/account-maps", { params: { query: { cursor, limit } } }))) });

export const useAccountPairs = (map: string, one: string, other: string) =>
  useQuery({ queryKey: ["account-map", "pairs", map, one, other], enabled: one !== "" && other !== "" && one !== other, retry: false, queryFn: () => got(api.GET("/api/v1/account-maps/{map}/pairs", { params: { path: { map }, query: { one, other } } })) });
