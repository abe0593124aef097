import { useMutation, useQuery } from "@tanstack/react-query";
import { again, api, data } from "./queries";

export const useNeeds = () => useQuery({ queryKey: ["needs"], queryFn: () => data(api.GET("/api/v1/needs")) });

export const useSupport = () => useQuery({ queryKey: ["support"], queryFn: () => data(api.GET("/api/v1/support")) });

export const useDepots = () => useQuery({ queryKey: ["depots"], queryFn: () => data(api.GET("/api/v1/depots")) });

export const useLicence = (digest: string, on: boolean) =>
  useQuery({
    queryKey: ["licence", digest],
    enabled: on && digest !== "",
    staleTime: Infinity, // it is named by what it says
    queryFn: () => data(api.GET("/api/v1/licences/{digest}", { params: { path: { digest } } })),
  });

export const useFetchNeeds = () =>
  useMutation({
    mutationFn: (accept: string) => data(api.POST("/api/v1/needs", { body: { accept } })),
    ...again("needs", "jobs", "prep"),
  });

export const useDropSupport = () =>
  useMutation({
    mutationFn: (digest: string) => data(api.DELETE("/api/v1/support/{digest}", { params: { path: { digest } } })),
    ...again("support", "needs"),
  });

export const useLookAtDepot = () =>
  useMutation({ mutationFn: (url: string) => data(api.POST("/api/v1/depots/look", { body: { url } })) });

export const useAddDepot = () =>
  useMutation({
    mutationFn: (body: { url: string; accept: string }) => data(api.POST("/api/v1/depots", { body })),
    ...again("depots", "needs"),
  });

export const useDropDepot = () =>
  useMutation({
    mutationFn: (id: string) => data(api.DELETE("/api/v1/depots/{id}", { params: { path: { id } } })),
    ...again("depots", "needs"),
  });

export const useKits = () => useQuery({ queryKey: ["kits"], queryFn: () => data(api.GET("/api/v1/kits")) });

export const useAddKit = () =>
  useMutation({
    mutationFn: (body: { name: string; path: string }) => data(api.POST("/api/v1/kits", { body })),
    ...again("kits", "prep", "check"),
  });

export const useDropKit = () =>
  useMutation({
    mutationFn: ({ kit, path }: { kit: string; path: string }) =>
      data(api.DELETE("/api/v1/kits/{kit}", { params: { path: { kit }, query: { path } } })),
    ...again("kits", "prep", "check"),
  });
