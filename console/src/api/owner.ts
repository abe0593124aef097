import { useMutation, useQuery } from "@tanstack/react-query";
import { api, data, queryClient, useSessions } from "./queries";
import type { Host } from "./types";

/** useOwner tells until when the owner lets this browser do what only the owner may; undefined: not now. */
export function useOwner(): string | undefined {
  return useSessions().data?.items.find((s) => s.this)?.confirmed ?? undefined;
}

export const useAskConfirmation = () => useMutation({ mutationFn: () => data(api.POST("/api/v1/confirmations")) });

export const useEndConfirmation = () =>
  useMutation({
    mutationFn: () => data(api.DELETE("/api/v1/confirmation")),
    onSettled: () => queryClient.invalidateQueries({ queryKey: ["sessions"] }),
  });

export const useRename = () =>
  useMutation({
    mutationFn: (name: string) => data(api.PATCH("/api/v1/bench", { body: { name } })),
    onSettled: () => queryClient.invalidateQueries(),
  });

const again = (key: string) => ({ onSettled: () => queryClient.invalidateQueries({ queryKey: [key] }) });

export const useAddHost = () =>
  useMutation({
    mutationFn: (host: Pick<Host, "name" | "usbip" | "control">) =>
      data(api.POST("/api/v1/hosts", { body: { ...host, shared: false, trouble: "" } })),
    ...again("hosts"),
  });

export const useShareHost = () =>
  useMutation({
    mutationFn: ({ name, shared }: { name: string; shared: boolean }) =>
      data(api.PATCH("/api/v1/hosts/{id}", { params: { path: { id: name } }, body: { shared } })),
    ...again("hosts"),
  });

export const useDropHost = () =>
  useMutation({
    mutationFn: (id: string) => data(api.DELETE("/api/v1/hosts/{id}", { params: { path: { id } } })),
    ...again("hosts"),
  });

export const useAddProject = () =>
  useMutation({
    mutationFn: (dir: string) => data(api.POST("/api/v1/projects", { body: { dir } })),
    ...again("projects"),
  });

export const useAddDriver = () =>
  useMutation({
    mutationFn: (file: File) =>
      data(
        api.POST("/api/v1/drivers", {
          body: file as unknown as string,
          bodySerializer: () => file,
          headers: { "Content-Type": "application/octet-stream" },
        }),
      ),
  });

export const useDraft = (name: string, on: boolean) =>
  useQuery({
    queryKey: ["draft", name],
    enabled: on,
    queryFn: () => data(api.GET("/api/v1/unrecognised/{name}/draft", { params: { path: { name } } })),
  });

export const useAddSheet = () =>
  useMutation({
    mutationFn: (text: string) => data(api.POST("/api/v1/sheets", { body: { text } })),
    ...again("sheets"),
  });

export const useDropSheet = () =>
  useMutation({
    mutationFn: (name: string) =>
      data(api.DELETE("/api/v1/sheets/{name}", { params: { path: { name: name.replaceAll("/", "~") } } })),
    ...again("sheets"),
  });

export const useTidy = () => useQuery({ queryKey: ["tidy"], queryFn: () => data(api.GET("/api/v1/tidy")) });

export const useTidyNow = () => useMutation({ mutationFn: () => data(api.POST("/api/v1/tidy")), ...again("tidy") });

export const useAccess = (on: boolean) =>
  useQuery({ queryKey: ["access"], enabled: on, queryFn: () => data(api.GET("/api/v1/access")) });

export const useAddAccess = () =>
  useMutation({
    mutationFn: (body: { name: string; rights: string[]; for: string }) => data(api.POST("/api/v1/access", { body })),
    ...again("access"),
  });

export const useDropAccess = () =>
  useMutation({
    mutationFn: (id: string) => data(api.DELETE("/api/v1/access/{id}", { params: { path: { id } } })),
    ...again("access"),
  });
