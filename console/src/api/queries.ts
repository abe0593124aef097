import { QueryClient, useMutation, useQueries, useQuery } from "@tanstack/react-query";
import createClient from "openapi-fetch";
import type { paths } from "./schema";
import type { Prep, Objection } from "./types";

/** What the interface says when something did not work (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly remedy: string,
  ) {
    super(detail);
  }
}

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: Infinity, // events say when something has changed
      retry: (count, error) => !(error instanceof Problem) && count < 20,
      retryDelay: (count) => Math.min(250 * 2 ** count, 3000),
    },
  },
});

/** again has queries asked again once a change was made, by the first parts of their keys. */
export const again = (...keys: string[]) => ({
  onSettled: () => Promise.all(keys.map((key) => queryClient.invalidateQueries({ queryKey: [key] }))),
});

export const api = createClient<paths>({ baseUrl: window.location.origin, fetch: (request) => fetch(request) });

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** data gives an answer's data, or throws its problem. */
export async function data<T>(answer: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await answer;
  if (!response.ok) {
    const p = (error ?? {}) as { detail?: string; remedy?: string; title?: string; errors?: { message: string }[] };
    const mistakes = p.errors?.map((e) => ` ${e.message}.`).join("") ?? "";
    throw new Problem(response.status, (p.detail ?? p.title ?? response.statusText) + mistakes, p.remedy ?? "");
  }
  return data as T;
}

export const useBench = () =>
  useQuery({ queryKey: ["bench"], queryFn: () => data(api.GET("/api/v1/bench")), refetchInterval: 60_000 });

export const useDevices = (app?: string) =>
  useQuery({
    queryKey: ["devices", app],
    enabled: app !== undefined,
    queryFn: () => data(api.GET("/api/v1/devices", { params: { query: { app } } })),
    placeholderData: (before) => before,
  });

const lookAgain = 1000; // milliseconds after which is asked again what an expression chooses

/** useChosen asks which devices an expression chooses, by their handles; none is asked for an empty one. */
export const useChosen = (where: string) =>
  useQuery({
    queryKey: ["chosen", where],
    queryFn: async () => {
      const chosen = await data(api.GET("/api/v1/devices", { params: { query: { where } } }));
      return new Set(chosen.items.map((d) => d.handle));
    },
    enabled: where !== "",
    refetchInterval: (query) => (query.state.error ? false : lookAgain),
    placeholderData: (before) => before,
  });

/** fetchDevices asks for some devices only. */
export const fetchDevices = async (app: string, handles: string[]) =>
  (
    await data(
      api.GET("/api/v1/devices", {
        params: { query: { app, handle: handles } },
        querySerializer: { array: { style: "form", explode: false } },
      }),
    )
  ).items;

export const useRound = (app?: string) =>
  useQuery({
    queryKey: ["round", app],
    enabled: app !== undefined,
    queryFn: () => data(api.GET("/api/v1/round", { params: { query: { app } } })),
  });

export const useRetirement = (handle: string, on: boolean) =>
  useQuery({
    queryKey: ["retirement", handle],
    enabled: on,
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/retirement", { params: { path: { handle } } })),
  });

export const useUnrecognised = () =>
  useQuery({ queryKey: ["unrecognised"], queryFn: () => data(api.GET("/api/v1/unrecognised")) });

export const usePrep = (handle: string, app?: string) =>
  useQuery({
    queryKey: ["prep", handle, app],
    enabled: app !== undefined,
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/prep", { params: { path: { handle }, query: { app } } })),
    placeholderData: (before) => before,
  });

export const useWhy = (handle: string, app?: string) =>
  useQuery({
    queryKey: ["why", handle, app],
    enabled: app !== undefined,
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/why", { params: { path: { handle }, query: { app } } })),
    placeholderData: (before) => before,
  });

export const useFacts = (handle: string) =>
  useQuery({
    queryKey: ["facts", handle],
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/facts", { params: { path: { handle } } })),
  });

export const useHistory = (handle: string) =>
  useQuery({
    queryKey: ["history", handle],
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/history", { params: { path: { handle } } })),
  });

export const useSheets = () => useQuery({ queryKey: ["sheets"], queryFn: () => data(api.GET("/api/v1/sheets")) });

export const fetchReport = async (handle: string) =>
  (await data(api.GET("/api/v1/devices/{handle}/report", { params: { path: { handle } } }))).text;

export const useTrees = (hosts: string[]) =>
  useQueries({
    queries: hosts.map((id) => ({
      queryKey: ["tree", id],
      queryFn: () => data(api.GET("/api/v1/hosts/{id}/tree", { params: { path: { id } } })),
    })),
  });

const checkAgain = 30_000; // milliseconds after which the computer is looked at again: no event tells of disk or memory

export const useCheck = () =>
  useQuery({ queryKey: ["check"], queryFn: () => data(api.GET("/api/v1/check")), refetchInterval: checkAgain });

export const useDrivers = () => useQuery({ queryKey: ["drivers"], queryFn: () => data(api.GET("/api/v1/drivers")) });

export const useProjects = () => useQuery({ queryKey: ["projects"], queryFn: () => data(api.GET("/api/v1/projects")) });

export const useJobs = () => useQuery({ queryKey: ["jobs"], queryFn: () => data(api.GET("/api/v1/jobs")) });

export const useRepeatJob = () =>
  useMutation({
    mutationFn: (id: string) => data(api.POST("/api/v1/jobs/{id}/repeat", { params: { path: { id } } })),
  });

const confirmedAgain = 15_000; // milliseconds after which is asked whether a browser is confirmed still

export const useSessions = () =>
  useQuery({
    queryKey: ["sessions"],
    queryFn: () => data(api.GET("/api/v1/sessions")),
    refetchInterval: ({ state }) => (state.data?.items.some((s) => s.this && s.confirmed) ? confirmedAgain : false),
  });

export const useEndSession = () =>
  useMutation({
    mutationFn: (id: string) => data(api.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } })),
    onSettled: () => queryClient.invalidateQueries({ queryKey: ["sessions"] }),
  });

/** useSignOut signs this browser out; what is shown is asked for again, and is not answered any more. */
export const useSignOut = () =>
  useMutation({
    mutationFn: () => data(api.POST("/api/v1/sign-out")),
    onSettled: () => queryClient.invalidateQueries(),
  });

const auditAgain = 5000; // milliseconds: nothing tells of its lines

export const useAudit = (limit: number) =>
  useQuery({
    queryKey: ["audit", limit],
    queryFn: () => data(api.GET("/api/v1/audit", { params: { query: { limit } } })),
    refetchInterval: auditAgain,
    placeholderData: (before) => before,
  });

export const useHosts = () => useQuery({ queryKey: ["hosts"], queryFn: () => data(api.GET("/api/v1/hosts")) });

export const useTellable = (handle: string) =>
  useQuery({
    queryKey: ["tellable", handle],
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/tellable", { params: { path: { handle } } })),
  });

export const useOnApp = (handle: string) =>
  useMutation({
    mutationFn: ({ app, remove }: { app: string; remove: boolean }) => {
      const params = { path: { handle } };
      const body = { app };
      return data(
        remove
          ? api.POST("/api/v1/devices/{handle}/apps/remove", { params, body })
          : api.POST("/api/v1/devices/{handle}/apps/stop", { params, body }),
      );
    },
  });

export const useDropDevice = (handle: string) =>
  useMutation({
    mutationFn: () => data(api.DELETE("/api/v1/devices/{handle}", { params: { path: { handle } } })),
  });

/** Has several devices ask their owners; what each answers is shown with it. */
export const useAskAll = () =>
  useMutation({
    mutationFn: (handles: string[]) =>
      Promise.all(
        handles.map((handle) => data(api.POST("/api/v1/devices/{handle}/admission", { params: { path: { handle } } }))),
      ),
  });

export const useRunOnAll = () =>
  useMutation({
    mutationFn: (body: { app: string; devices: string[]; try: boolean }) => data(api.POST("/api/v1/runs", { body })),
  });

export const useJob = (id: string) =>
  useQuery({
    queryKey: ["jobs", "one", id],
    enabled: id !== "",
    queryFn: () => data(api.GET("/api/v1/jobs/{id}", { params: { path: { id } } })),
  });

export const usePin = (handle: string) =>
  useMutation({
    mutationFn: (device_key: string) =>
      data(api.PATCH("/api/v1/devices/{handle}", { params: { path: { handle } }, body: { device_key } })),
  });

export const useStateFact = (handle: string) =>
  useMutation({
    mutationFn: (body: { key: string; value: string }) =>
      data(api.POST("/api/v1/devices/{handle}/facts", { params: { path: { handle } }, body })),
  });

export const useTryouts = (device: string) =>
  useQuery({
    queryKey: ["tryouts", device],
    queryFn: () => data(api.GET("/api/v1/tryouts", { params: { query: { device } } })),
  });

export const useSignIn = () =>
  useMutation({ mutationFn: (secret: string) => data(api.POST("/api/v1/sign-in", { body: { secret } })) });

/** The plan that is shown of a device, if any. */
const shownPrep = (handle: string) =>
  queryClient
    .getQueriesData<Prep>({ queryKey: ["prep", handle], type: "active" })
    .find(([, prep]) => prep !== undefined);

const onRevision = (prep?: Prep) => (prep ? { "If-Match": `"${prep.device.revision}"` } : {});

/**
 * decided sends an action with the revision of the device on which it was decided. Where the device has changed
 * meanwhile and still waits for the same step, it is sent once more; else the person looks again first.
 */
async function decided<T>(handle: string, send: (header: { "If-Match"?: string }) => Promise<Answer<T>>): Promise<T> {
  const [queryKey, before] = shownPrep(handle) ?? [];
  try {
    return await data(send(onRevision(before)));
  } catch (e) {
    if (!(e instanceof Problem) || e.status !== 412 || !queryKey) throw e;
    await queryClient.refetchQueries({ queryKey, exact: true });
    const now = queryClient.getQueryData<Prep>(queryKey);
    if (now?.device.next?.id !== before?.device.next?.id) throw e;
    return data(send(onRevision(now)));
  }
}

export const useTell = (handle: string) =>
  useMutation({
    mutationFn: (step: string) =>
      decided(handle, (header) =>
        api.POST("/api/v1/devices/{handle}/told", { params: { path: { handle }, header }, body: { step } }),
      ),
  });

export const useAddDevice = () =>
  useMutation({
    mutationFn: (model: string) => data(api.POST("/api/v1/devices", { body: { model, handle: "" } })),
  });

export const useAnswer = (handle: string) =>
  useMutation({
    mutationFn: (body: { check: string; answer: string }) =>
      data(api.POST("/api/v1/devices/{handle}/answers", { params: { path: { handle } }, body })),
  });

export const useTakeBack = (handle: string) =>
  useMutation({
    mutationFn: (id: string) =>
      data(api.DELETE("/api/v1/devices/{handle}/answers/{id}", { params: { path: { handle, id } } })),
  });

export const useRemedied = (handle: string) =>
  useMutation({
    mutationFn: (cause: string) =>
      data(api.POST("/api/v1/devices/{handle}/remedies", { params: { path: { handle } }, body: { cause } })),
  });

export const useFind = (handle: string) =>
  useMutation({
    mutationFn: () => data(api.POST("/api/v1/devices/{handle}/find", { params: { path: { handle } } })),
  });

export const useRetire = (handle: string) =>
  useMutation({
    mutationFn: () => data(api.POST("/api/v1/devices/{handle}/retirement", { params: { path: { handle } } })),
  });

export const useCallOff = (handle: string) =>
  useMutation({
    mutationFn: () => data(api.DELETE("/api/v1/devices/{handle}/retirement", { params: { path: { handle } } })),
  });

export const useTellRetirement = (handle: string) =>
  useMutation({
    mutationFn: (step: string) =>
      data(api.POST("/api/v1/devices/{handle}/retirement/told", { params: { path: { handle } }, body: { step } })),
  });

export const useAsk = (handle: string) =>
  useMutation({
    mutationFn: () =>
      decided(handle, (header) =>
        api.POST("/api/v1/devices/{handle}/admission", { params: { path: { handle }, header } }),
      ),
  });

export const useInstallDriver = (handle: string) =>
  useMutation({
    mutationFn: (body: { accept: string; despite: Objection["word"][] }) =>
      decided(handle, (header) =>
        api.POST("/api/v1/devices/{handle}/driver", { params: { path: { handle }, header }, body }),
      ),
  });

export const useGiveDevice = (handle: string) =>
  useMutation({
    mutationFn: (to: string) =>
      data(api.POST("/api/v1/devices/{handle}/host", { params: { path: { handle } }, body: { to } })),
  });

export const useRestartLink = (handle: string) =>
  useMutation({
    mutationFn: () => data(api.POST("/api/v1/devices/{handle}/link/restart", { params: { path: { handle } } })),
  });

export const useDriverCandidates = (handle: string, on: boolean) =>
  useQuery({
    queryKey: ["candidates", handle],
    enabled: on,
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/drivers", { params: { path: { handle } } })),
  });

export const useRun = (device: string) =>
  useMutation({
    mutationFn: (run: { app: string; try: boolean }) => data(api.POST("/api/v1/runs", { body: { device, ...run } })),
  });

export const useStopJob = () =>
  useMutation({
    mutationFn: (id: string) => data(api.POST("/api/v1/jobs/{id}/stop", { params: { path: { id } } })),
  });
