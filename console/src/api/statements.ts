import { useMutation, useQuery } from "@tanstack/react-query";
import { again, api, data } from "./queries";

export const useStatements = () =>
  useQuery({ queryKey: ["statements"], queryFn: () => data(api.GET("/api/v1/statements")) });

/** useAllow puts on a device the grant or the debug token that an app needs to run there. */
export const useAllow = (handle: string) =>
  useMutation({
    mutationFn: (body: { app: string; replace: boolean }) =>
      data(api.POST("/api/v1/devices/{handle}/allow", { params: { path: { handle } }, body })),
    ...again("statements", "may-run", "explain", "jobs"),
  });

export const useWithdrawStatement = () =>
  useMutation({
    mutationFn: (id: string) =>
      data(api.DELETE("/api/v1/statements/{id}", { params: { path: { id }, query: { withdraw: true } } })),
    ...again("statements", "may-run", "explain"),
  });

/** useMayRun asks on which devices of the rack the apps may run, and what comes before. */
export const useMayRun = () => useQuery({ queryKey: ["may-run"], queryFn: () => data(api.GET("/api/v1/may-run")) });

/** useExplain asks whether an app may run on a device, or what stands against it. */
export const useExplain = (app: string, handle: string) =>
  useQuery({
    queryKey: ["explain", handle, app],
    queryFn: () => data(api.GET("/api/v1/devices/{handle}/explain", { params: { path: { handle }, query: { app } } })),
  });
